"""The look: inks against paper by WCAG 2.2, keys that do not collide, the slider as a person uses it."""

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QAccessible, QImage
from PySide6.QtWidgets import (
    QAbstractButton,
    QApplication,
    QComboBox,
    QDialog,
    QGridLayout,
    QLayout,
    QLineEdit,
    QStackedLayout,
    QWidget,
)

from driving import drag, key, press
from isophon.app import palettes, theme
from isophon.app.main import make_app
from isophon.app.model.appearance import Appearance, appearance
from isophon.app.model.keys import key_book
from isophon.app.pages.keys_page import KeysPage
from isophon.app.pages.route import STATIONS
from isophon.app.pages.start_page import StartPage
from isophon.app.sheets import PASSES
from isophon.app.views.labels import ElidedLabel
from isophon.app.views.map_signs import Stamps
from isophon.app.views.slider import Slider


def luminance(colour) -> float:
    """Relative luminance, WCAG 2.2."""
    parts = [c / 255 for c in colour.getRgb()[:3]]
    linear = [c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4 for c in parts]
    return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]


def contrast(one, other) -> float:
    light, dark = sorted((luminance(one), luminance(other)), reverse=True)
    return (light + 0.05) / (dark + 0.05)


@pytest.fixture(params=[False, True], ids=["paper", "dusk"])
def dusk(request):
    palettes.use(request.param)
    yield request.param
    palettes.use(False)


@pytest.mark.parametrize("ground", ["PAPER", "PANEL"])
@pytest.mark.parametrize("ink", ["INK", "SOFT_INK", "SELECTED", "OVER", "DONE", "HAND_FLAG"])
def test_text_can_be_read_on_its_ground(dusk, ink, ground):
    """4.5:1 for text, 3:1 for shapes (WCAG 2.2, 1.4.3 and 1.4.11)."""
    assert contrast(getattr(theme, ink), getattr(theme, ground)) >= 4.5
    assert contrast(theme.ADDED, getattr(theme, ground)) >= 3.0


@pytest.mark.parametrize("dark", [False, True])
def test_high_contrast_follows_the_desktop(room, qtbot, dark, monkeypatch):
    """7:1 for text and 3:1 for lines (WCAG 2.2, 1.4.6 and 1.4.11) once the desktop asks for it, and back again."""
    look, wanted = appearance(), [True]
    monkeypatch.setattr(look, "wants_contrast", lambda: wanted[0])
    look.choose("dusk" if dark else "paper")
    try:
        for ground in (theme.PAPER, theme.PANEL):
            inks = (theme.INK, theme.SOFT_INK, theme.SELECTED, theme.OVER, theme.DONE, theme.HAND_FLAG, theme.ADDED)
            assert min(contrast(ink, ground) for ink in inks) >= 7
            assert min(contrast(line, ground) for line in (theme.RULE, theme.CONTOUR)) >= 3
        drawn = room.grab().toImage().pixelColor(room.width() // 2, room.height() - 3)
        assert drawn == theme.PANEL, "the window is drawn anew"
        wanted[0] = False
        look._hints.contrastPreferenceChanged.emit(Qt.ContrastPreference.NoPreference)
        assert palettes.in_force() == (dark, False)
    finally:
        wanted[0] = False
        look.choose("paper")


def test_type_has_three_sizes_and_everything_stands_on_the_grid(room, qtbot):
    """Of every station: no widget with another size of type, no distance that is not a multiple of 4 pixels."""
    for station in range(len(STATIONS)):
        room.open_station(station)
        shown = [widget for widget in room.findChildren(QWidget) if widget.isVisible()]
        assert {widget.fontInfo().pixelSize() for widget in shown} <= {theme.SMALL, theme.TEXT, theme.HEAD}
        for layout in room.findChildren(QLayout):
            margins = layout.contentsMargins()
            between = [layout.spacing()]
            if isinstance(layout, QGridLayout):
                between = [layout.horizontalSpacing(), layout.verticalSpacing()]
            around = [margins.left(), margins.top(), margins.right(), margins.bottom()]
            if not isinstance(layout, QStackedLayout):
                assert not any(gap % 4 for gap in around + between), (layout.parentWidget(), around, between)


def test_a_screen_reader_is_told_a_name_of_everything_that_takes_the_focus(room, qtbot):
    for station in range(len(STATIONS)):
        room.open_station(station)
        for widget in room.findChildren(QWidget):
            if widget.isVisible() and widget.focusPolicy() != Qt.FocusPolicy.NoFocus:
                name = QAccessible.queryAccessibleInterface(widget).text(QAccessible.Text.Name)
                chosen = isinstance(widget, QComboBox)  # Qt tells of those what is chosen
                assert widget.accessibleName() if chosen else name, (STATIONS[station], widget)


def test_every_control_says_what_it_does(room, qtbot):
    room.show_preferences()
    room.show_cards()
    pages = [page for page in QApplication.topLevelWidgets() if isinstance(page, QDialog) and page.isVisible()]
    assert len(pages) == 2
    silent = set()
    for station in range(len(STATIONS)):
        room.open_station(station)
        for page in (room.window().start, room, *pages):
            controls = [c for kind in (QAbstractButton, QComboBox, QLineEdit, Slider) for c in page.findChildren(kind)]
            shown = [control for control in controls if control.isVisibleTo(page) and not control.toolTip()]
            silent |= {(STATIONS[station], control.accessibleName() or control.text()) for control in shown}
    assert {words for _, words in silent} <= {"Close"}, silent


def test_marks_are_told_apart_by_their_shapes_however_colours_are_seen(dusk, qtbot):
    """Every sign in the same ink, seen with protan, deutan and tritan sight (Machado, Oliveira & Fernandes 2009, full
    strength, from memory): none covers what another covers, and each stands out of the paper."""
    make_app()
    palettes.use(dusk)
    stamps = Stamps()
    drawn = [pixels(stamps.of(which, theme.OVER, True, 4.0)) for which in PASSES]
    covered = [picture[..., 3] > 127 for picture in drawn]
    for i, one in enumerate(covered):
        for other in covered[i + 1 :]:
            assert (one & other).sum() < 0.8 * (one | other).sum(), "two signs look alike"
    colours = np.array([[c.red(), c.green(), c.blue()] for c in (theme.OVER, theme.SELECTED, theme.DONE, theme.PAPER)])
    linear = np.where(colours <= 10, colours / 3294.6, ((colours / 255 + 0.055) / 1.055) ** 2.4)
    for sight in SIGHTS:
        seen = np.clip(linear @ np.array(sight).T, 0, 1) @ np.array([0.2126, 0.7152, 0.0722])
        light, dark = np.maximum(seen[:-1], seen[-1]), np.minimum(seen[:-1], seen[-1])
        assert ((light + 0.05) / (dark + 0.05)).min() >= 3.0


def pixels(pixmap):
    image = pixmap.toImage().convertToFormat(QImage.Format.Format_RGBA8888)
    return np.frombuffer(image.constBits(), np.uint8).reshape(image.height(), image.width(), 4).copy()


SIGHTS = (
    ((0.152286, 1.052583, -0.204868), (0.114503, 0.786281, 0.099216), (-0.003882, -0.048116, 1.051998)),
    ((0.367322, 0.860646, -0.227968), (0.280085, 0.672501, 0.047413), (-0.011820, 0.042940, 0.968881)),
    ((1.255528, -0.076749, -0.178779), (-0.078411, 0.930809, 0.147602), (0.004733, 0.691367, 0.303900)),
)


def test_no_key_does_two_things():
    groups = key_book().groups
    keys = [key for _, group in groups for _, keys, _ in group for key in keys.split(", ")]
    assert len(keys) == len(set(keys))
    names = [name for _, group in groups for name, _, _ in group if name]
    assert len(names) == len(set(names))


def test_the_shipped_fonts_are_used(qtbot):
    make_app()
    page = KeysPage()
    qtbot.addWidget(page)
    page.show()
    assert theme.sans(13).exactMatch() and theme.mono(13).exactMatch()


def test_numbers_have_a_real_minus_and_no_signed_zero():
    assert theme.signed(-3.04) == "−3.0" and theme.signed(0.0) == theme.signed(-0.01) == "0.0"
    assert theme.signed(2.5) == "+2.5" and theme.clock(75.5) == "1:15.50"


def test_a_slider_drags_steps_and_goes_back_to_its_default(qtbot):
    slider = Slider("Ceiling", -24, 12, -3.0, lambda v: f"{v:.1f}", 0.5)
    qtbot.addWidget(slider)
    slider.resize(400, 28)
    slider.show()
    moved = []
    slider.moved.connect(lambda value, gesture: moved.append((value, gesture)))
    left, right = slider._line()
    grip = QPoint(round(slider._x_of(-3.0)), 14)
    qtbot.mousePress(slider, Qt.MouseButton.LeftButton, pos=grip)
    qtbot.mouseMove(slider, grip - QPoint(round((right - left) / 4), 0))
    qtbot.mouseMove(slider, QPoint(round(left) - 200, 14))
    qtbot.mouseRelease(slider, Qt.MouseButton.LeftButton, pos=QPoint(round(left), 14))
    assert moved[0][0] == pytest.approx(-12, abs=0.5) and moved[1][0] == -24 and moved[0][1] == moved[1][1]
    slider.setFocus()
    before = slider.value
    qtbot.keyClick(slider, Qt.Key.Key_Right)
    assert slider.value == before + 0.5 and moved[-1][1] != moved[0][1]
    qtbot.mouseDClick(slider, Qt.MouseButton.LeftButton, pos=QPoint(round(right), 14))
    assert slider.value == -3.0


def test_a_line_without_room_leaves_whole_parts_out(qtbot):
    label = ElidedLabel(least=0.7)
    qtbot.addWidget(label)
    label.setText("Lead · voice −21.6 LUFS · esses")
    label.show()
    wide = label.sizeHint().width()
    seen = []
    for width in range(wide, 0, -4):
        label.resize(width, 20)
        shown = label.shown()
        seen += [shown] if not seen or shown != seen[-1] else []
        assert label.fontMetrics().horizontalAdvance(shown) <= width
        assert label.toolTip() == ("" if shown == label.text() else label.text())
    assert seen[:3] == [label.text(), "Lead · voice −21.6 LUFS …", "Lead …"] and seen[-1] == ""


def test_the_start_page_offers_what_is_there(qtbot, tmp_path):
    make_app()
    page = StartPage()
    qtbot.addWidget(page)
    page.show()
    page.show_lists([("Song", tmp_path / "a.journal")], [(tmp_path / "old.isophon", "5 parts")])
    with qtbot.waitSignal(page.recover_asked) as recovered:
        qtbot.mouseClick(page.lists.itemAt(1).widget(), Qt.MouseButton.LeftButton)
    assert recovered.args == [tmp_path / "a.journal"]
    with qtbot.waitSignal(page.path_chosen) as chosen:
        qtbot.mouseClick(page.lists.itemAt(3).widget(), Qt.MouseButton.LeftButton)
    assert chosen.args == [tmp_path / "old.isophon"] and "5 parts" in page.lists.itemAt(3).widget().text()
    page.show_work("Opening", 0.4)
    assert page.bar.value() == 400 and not page.open.isEnabled() and page.cancel.isVisible()


def test_dusk_is_chosen_kept_and_everything_is_drawn_anew(room, qtbot):
    """Map, skyline, lists and buttons are dark at once, and paper again; the choice is there after the next start."""

    def lightness():
        grabbed = room.grab().toImage().convertToFormat(QImage.Format.Format_Grayscale8)
        rows = np.frombuffer(grabbed.constBits(), np.uint8).reshape(grabbed.height(), grabbed.bytesPerLine())
        return [
            float(np.median(piece)) for half in np.array_split(rows, 4) for piece in np.array_split(half, 5, axis=1)
        ]

    room.workspace.viewport.show(6.0, 12.0)
    qtbot.waitUntil(lambda: lightness() and room.views.trace.map.maker.made is not None, timeout=10_000)
    before = lightness()
    appearance().choose("dusk")
    qtbot.waitUntil(lambda: max(lightness()) < 120, timeout=5_000)
    assert min(before) > 120
    assert appearance_of_the_next_start() == "dusk"
    appearance().choose("paper")
    qtbot.waitUntil(lambda: np.allclose(lightness(), before, atol=12), timeout=5_000)


def appearance_of_the_next_start():
    return Appearance(make_app()).look


def test_every_sheet_has_a_picture_of_this_take_and_a_spots_curve_is_drawn(room, qtbot):
    """Each picture holds more than its frame; points of the curve are made, dragged in one step, and deleted."""
    workspace = room.workspace
    qtbot.waitUntil(lambda: workspace.take.surveyed is not None, timeout=60_000)
    for which in PASSES[:-2]:
        press(room, key(which.name), qtbot=qtbot)
        if workspace.marks:
            workspace.select_marks([workspace.marks[0].id])
        if which.kind == "gap":
            room.sheet.extras.between.setChecked(True)
        picture = room.sheet.picture
        if picture is not None:
            colours = lambda p=picture: len(np.unique(pixels(p.grab()).reshape(-1, 4), axis=0))  # noqa: E731
            qtbot.waitUntil(lambda: colours() > 20, timeout=9_000)  # noqa: B023
    press(room, key("Spots"), qtbot=qtbot)
    workspace.select_marks([workspace.marks[0].id])
    curve = room.sheet.picture
    box = curve._box()
    steps = workspace.keeper.history.at
    qtbot.mouseDClick(curve, Qt.MouseButton.LeftButton, pos=box.center().toPoint())
    (point,) = workspace.mark.hand.curve
    assert point[1] == pytest.approx(-12, abs=1) and point[0] == pytest.approx(980, rel=0.05)
    drag(qtbot, curve, box.center(), box.center() - QPointF(0, 20))
    (moved,) = workspace.mark.hand.curve
    assert moved[1] > point[1] + 3 and workspace.keeper.history.at == steps + 2
    qtbot.mouseDClick(curve, Qt.MouseButton.LeftButton, pos=(box.center() - QPointF(0, 20)).toPoint())
    assert workspace.mark.hand.curve == ()
