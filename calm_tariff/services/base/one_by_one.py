"""Doing something for each of several, so that one that fails holds up no other."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import TypeVar

T = TypeVar("T")


def one_by_one(of: Iterable[T], work: Callable[[T], bool]) -> int:
    """Do it for each; returns for how many it was done. Those that fail are raised together, after the last."""
    count, failed = 0, list[Exception]()
    for each in of:
        try:
            count += work(each)
        except Exception as error:  # whatever it is, the others are not held up by it
            failed.append(error)
    if failed:
        raise ExceptionGroup(f"{failed[0].__class__.__name__}: {failed[0]}", failed)
    return count
