"""Keeping what was made of values that do not change, known by the very values it was made of."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from typing import Generic, TypeVar

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
