"""What stands between an empty installation and its first served call."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core.first_steps import STEPS, Step, walk
from calm_tariff.core.sentences.first_steps import IN_WORDS


@given(st.sets(st.sampled_from(STEPS)))
def test_the_first_that_is_not_done_is_next_and_a_served_call_ends_the_walk(done: set[Step]) -> None:
    walked = walk(done)
    if "call" in done:
        assert walked == []
        return
    assert [w.step for w in walked] == list(STEPS) and {w.step for w in walked if w.done} == done
    [following] = [w for w in walked if w.next]
    assert not following.done and all(w.done for w in walked[: walked.index(following)])


def test_each_step_is_told_in_words() -> None:
    assert tuple(IN_WORDS) == STEPS and all(all(words) for words in IN_WORDS.values())
