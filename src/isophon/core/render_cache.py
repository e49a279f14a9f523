"""What renderers keep between calls, within one limit however many share it."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable
from typing import Generic, TypeVar

import numpy as np

Thing = TypeVar("Thing")
Value = TypeVar("Value")

_TILES_BYTES = 48 << 20  # cleaned, in memory
_BANDS_BYTES = 48 << 20  # of bands of single marks
_SUNG_BYTES = 16 << 20  # as sung


class _Cache:
    """Arrays by key, the least used given up beyond a number of bytes."""

    def __init__(self, limit: int) -> None:
        self._limit, self._bytes, self._cleared = limit, 0, 0
        self._items: OrderedDict[object, np.ndarray] = OrderedDict()
        self._lock = threading.Lock()

    def get(self, key: object, make: Callable[[], np.ndarray]) -> np.ndarray:
        """The array of a key, of any shape, made by ``make`` where it is not in memory."""
        with self._lock:
            if key in self._items:
                self._items.move_to_end(key)
                return self._items[key]
            cleared = self._cleared
        value = make()
        with self._lock:
            if key not in self._items and cleared == self._cleared:  # what was begun before a clearing may be old
                self._items[key] = value
                self._bytes += value.nbytes
            while self._bytes > self._limit and len(self._items) > 1:
                self._bytes -= self._items.popitem(last=False)[1].nbytes
        return value

    def has(self, key: object) -> bool:
        """Whether there is something of that key."""
        with self._lock:
            return key in self._items

    def clear(self) -> None:
        """Forget everything."""
        with self._lock:
            self._items.clear()
            self._bytes = 0
            self._cleared += 1


class RenderCache:
    """The tiles as sung and cleaned, and what stages keep, of all renderers that share it."""

    def __init__(self) -> None:
        self.sung, self.tiles, self.bands = _Cache(_SUNG_BYTES), _Cache(_TILES_BYTES), _Cache(_BANDS_BYTES)
        self.generation = 0

    def clear(self) -> None:
        """Forget what was rendered."""
        for cache in (self.tiles, self.bands):
            cache.clear()
        self.generation += 1


class ByIdentity(Generic[Thing, Value]):
    """Values of things, worked out once for each object: for things that take long to compare."""

    def __init__(self, most: int) -> None:
        self._most, self._lock = most, threading.Lock()
        self._known: OrderedDict[int, tuple[Thing, Value]] = OrderedDict()

    def get(self, thing: Thing, make: Callable[[], Value]) -> Value:
        """The value of a thing, made by ``make`` the first time; the oldest of very many is given up."""
        with self._lock:
            known = self._known.get(id(thing))
            if known is not None and known[0] is thing:
                return known[1]
        value = make()
        with self._lock:
            self._known[id(thing)] = thing, value
            self._known.move_to_end(id(thing))
            while len(self._known) > self._most:
                self._known.popitem(last=False)
        return value
