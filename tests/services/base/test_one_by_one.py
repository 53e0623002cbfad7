"""One that fails holds up no other, and is not passed over in silence."""

import pytest

from calm_tariff.services.base.one_by_one import one_by_one


def test_it_is_done_for_each_and_counted_where_there_was_something_to_do():
    assert one_by_one([1, 2, 3, 4], lambda number: number > 2) == 2


def test_those_after_one_that_fails_are_done_and_its_words_are_told():
    done = []

    def halve(number: int) -> bool:
        done.append(12 // number)
        return True

    with pytest.raises(ExceptionGroup, match=r"ZeroDivisionError: .*zero") as failed:
        one_by_one([4, 0, 3, 0], halve)
    assert done == [3, 4]
    assert len(failed.value.exceptions) == 2
