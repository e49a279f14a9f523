"""The picture of a sheet over the map, as large as that, for as long as it is wanted."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject
from PySide6.QtWidgets import QWidget

from isophon.app.model.workspace import Workspace
from isophon.app.sheets.sheet import Sheet, Sheets


class LargePicture(QObject):
    """Lays the picture of the sheet that is open over ``map_`` when it asks for it; another sheet ends that."""

    def __init__(self, workspace: Workspace, sheets: Sheets, map_: QWidget) -> None:
        super().__init__(map_)
        self._sheets, self._map = sheets, map_
        self._sheet: Sheet | None = None
        workspace.large_asked.connect(self._ask)
        sheets.currentChanged.connect(self.end)
        map_.installEventFilter(self)

    def end(self) -> bool:
        """Back into the sheet; whether it was over the map."""
        sheet, self._sheet = self._sheet, None
        if sheet is None:
            return False
        sheet.take_picture_back()
        return True

    def _ask(self, on: bool) -> None:
        if not on:
            self.end()
        elif self._sheet is None and self._sheets.open.picture is not None:
            self._sheet = self._sheets.open
            picture = self._sheet.lend_picture(self._map)
            picture.setGeometry(self._map.rect())
            picture.show()
            picture.raise_()

    def eventFilter(self, _watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.Resize and self._sheet is not None and self._sheet.picture is not None:
            self._sheet.picture.setGeometry(self._map.rect())
        return False
