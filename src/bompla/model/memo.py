"""Keeping what was made of values that do not change, known by the very values it was made of."""

from __future__ import annotations

import threading
from collections import OrderedDict, deque
from collections.abc import Callable, Hashable
from typing import Any, Generic, TypeVar

import numpy as np
from numpy.typing import NDArray

T = TypeVar("T")


class LastMade(Generic[T]):
    """The last few results of a pure function, found again by the identity of its inputs.

    Documents are immutable and share what did not change, so that the same object is the same value, and comparing two is free.
    """

    def __init__(self, most: int = 4) -> None:
        self._known: deque[tuple[tuple[object, ...], T]] = deque(maxlen=most)

    def get(self, inputs: tuple[object, ...], make: Callable[[], T]) -> T:
        """Return what was made of these inputs, made now where it is not known; may be called on any thread."""
        for known, made in tuple(self._known):
            if len(known) == len(inputs) and all(a is b for a, b in zip(known, inputs, strict=True)):
                return made
        result = make()
        self._known.append((inputs, result))
        return result


class Kept:
    """The last results, each known by the value of all that it depends on: the same question is answered once; for any thread."""

    def __init__(self, most: int = 12) -> None:
        self._most = most
        self._known: OrderedDict[Hashable, Any] = OrderedDict()
        self._lock = threading.Lock()

    def get(self, key: Hashable, make: Callable[[], Any]) -> Any:
        """Return what is known by a key, made now where nothing is."""
        with self._lock:
            if key in self._known:
                self._known.move_to_end(key)
                return self._known[key]
        made = make()
        self.put(key, made)
        return made

    def put(self, key: Hashable, value: Any) -> None:
        """Keep a result; the one that was asked for the longest ago makes room."""
        with self._lock:
            self._known[key] = value
            self._known.move_to_end(key)
            while len(self._known) > self._most:
                self._known.popitem(last=False)

    def __contains__(self, key: Hashable) -> bool:
        return key in self._known


class KeptArrays:
    """The last arrays, each known by the value of all that it was made of, no more than so many bytes together; for any thread."""

    def __init__(self, most_bytes: int) -> None:
        self._most_bytes = most_bytes
        self._known: OrderedDict[Hashable, NDArray[np.float32]] = OrderedDict()
        self._bytes = 0
        self._lock = threading.Lock()

    def get(self, key: Hashable, make: Callable[[], NDArray[np.float32]]) -> NDArray[np.float32]:
        """Return what is known by a key, not to be written to, made now where nothing is."""
        with self._lock:
            if key in self._known:
                self._known.move_to_end(key)
                return self._known[key]
        made = make()
        with self._lock:
            if key not in self._known:
                self._known[key] = made
                self._bytes += made.nbytes
            while self._bytes > self._most_bytes:
                self._bytes -= self._known.popitem(last=False)[1].nbytes
        return made
