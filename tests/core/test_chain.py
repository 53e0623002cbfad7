"""The chain of the record: whatever is done to it afterwards is found."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core import chain
from calm_tariff.core.chain import BEGINNING, ERASED, Link, looked_through

SAYS: dict[str, Any] = {"actor": "Inês", "before": {"2": 1, "10": None}, "after": [True, "ü"], "why": ""}


def made(many: int, **more: Any) -> list[Link]:
    links, before = [], BEGINNING
    for number in range(1, many + 1):
        says = {**SAYS, "number": number, **more}
        said = chain.content(says, f"salt {number}")
        before = chain.digest(before, number, said)
        links.append(Link(number=number, says=says, salt=f"salt {number}", content=said, digest=before))
    return links


def test_a_chain_that_nobody_touched_holds_and_tells_its_end() -> None:
    links = made(5)
    found = looked_through(links)
    assert (found.entries, found.erased, found.number, found.digest, found.wrong) == (5, 0, 5, links[-1].digest, "")
    assert looked_through([]) == chain.Checked()


def test_the_order_of_names_and_the_kind_of_keys_make_no_difference() -> None:
    assert chain.content({"a": 1, "b": {2: "x"}}, "s") == chain.content({"b": {"2": "x"}, "a": 1}, "s")
    assert chain.content({"a": 1}, "s") != chain.content({"a": "1"}, "s") != chain.content({"a": "1"}, "t")


@given(st.integers(0, 5), st.sampled_from(["says", "salt", "content", "digest", "taken out", "twice", "swapped"]))
def test_what_was_changed_taken_out_or_put_in_is_found(at: int, what: str) -> None:
    links = made(7)
    one = links[at]
    if what == "says":
        links[at] = replace(one, says={**SAYS, "number": one.number, "why": "another"})
    elif what in ("salt", "content", "digest"):
        links[at] = replace(one, **{what: "0" * 64})
    elif what == "taken out":
        del links[at]
    elif what == "twice":
        links.insert(at, one)
    else:
        links[at], links[at + 1] = links[at + 1], one
    found = looked_through(links)
    assert found.wrong and found.entries <= at + 1
    assert found.number <= at + 1


def test_a_forger_who_makes_one_entry_anew_must_make_all_after_it_anew() -> None:
    links = made(4)
    says = {**SAYS, "number": 2, "why": "forged"}
    said = chain.content(says, "salt 2")
    forged = replace(links[1], says=says, content=said, digest=chain.digest(links[0].digest, 2, said))
    found = looked_through([links[0], forged, *links[2:]])
    assert found.number == 2 and found.wrong.startswith("entry 3 does not follow")


def test_words_can_be_taken_out_of_an_entry_and_the_chain_still_holds() -> None:
    links = made(4, action=f"{ERASED} of a member")
    links[1] = replace(links[1], says=None, salt="", erased_by=4)
    found = looked_through(links)
    assert (found.wrong, found.erased, found.entries) == ("", 1, 4)
    # but not without telling who did, nor by an entry that is not there, or that tells of something else, nor in part
    assert "lost its words" in looked_through([links[0], replace(links[1], erased_by=None), *links[2:]]).wrong
    unsaid = "entry 2 was emptied, and no entry 5 tells of it"
    assert looked_through([links[0], replace(links[1], erased_by=5), *links[2:]]).wrong == unsaid
    other = made(4)
    other[1] = replace(other[1], says=None, salt="", erased_by=4)
    assert looked_through(other).wrong == "entry 2 was emptied, and no entry 4 tells of it"
    left = replace(links[1], says={"why": "another"})
    assert looked_through([links[0], left, *links[2:]]).wrong == "entry 2 says something, though it was emptied"
