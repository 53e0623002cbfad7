"""A thread that dies is begun again, and others do not notice."""

from __future__ import annotations

from threading import Event

from calm_tariff.services.base.supervision import Supervised
from tests.processes import wait_for


def test_a_thread_that_dies_or_ends_is_begun_again_and_counted() -> None:
    stop, begun, well = Event(), [], Event()

    def work(stopping: Event) -> None:
        begun.append(1)
        if len(begun) == 1:
            raise ValueError("a malformed answer\nof two lines")
        if len(begun) == 2:
            return
        well.set()
        stopping.wait()

    other = Supervised("other", lambda stopping: stopping.wait() and None, stop)
    thread = Supervised("thread", work, stop, pause=0.0)
    for each in (thread, other):
        each.start()
    assert well.wait(60)
    assert (thread.died, thread.last_error, other.died) == (2, "it ended by itself", 0)
    stop.set()
    for each in (thread, other):
        each.join()
    assert len(begun) == 3


def test_what_is_told_to_stop_is_not_begun_again() -> None:
    stop = Event()
    thread = Supervised("thread", lambda stopping: stopping.wait() and None, stop, pause=0.0)
    thread.start()
    stop.set()
    thread.join()
    wait_for(lambda: thread.died == 0)
