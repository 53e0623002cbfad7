"""Numbers of documents: each once, none left out, whoever issues beside."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from threading import Barrier

from calm_tariff.services.settle.documents.numbering import next_number
from tests.office import Office


def number(office: Office, kind: str = "invoice", year: int = 2026) -> str:
    with office.ctx.transaction() as session:
        return next_number(session, kind, year)  # type: ignore[arg-type]


def test_numbers_follow_each_other_by_kind_and_year(office: Office) -> None:
    assert [number(office) for _ in range(3)] == ["INV-2026-00001", "INV-2026-00002", "INV-2026-00003"]
    assert number(office, year=2027) == "INV-2027-00001"
    assert number(office) == "INV-2026-00004"


def test_another_beginning_goes_on_with_the_count(office: Office) -> None:
    assert number(office) == "INV-2026-00001"
    with office.ctx.transaction() as session:
        assert next_number(session, "invoice", 2026, "LTO") == "LTO-2026-00002"
    assert number(office) == "INV-2026-00003"


def test_the_number_of_what_was_not_issued_is_given_again(office: Office) -> None:
    assert number(office) == "INV-2026-00001"
    with suppress(ZeroDivisionError), office.ctx.transaction() as session:
        assert next_number(session, "invoice", 2026) == "INV-2026-00002"
        assert next_number(session, "invoice", 2026) == "INV-2026-00003"
        raise ZeroDivisionError
    assert number(office) == "INV-2026-00002"


def test_many_who_issue_at_once_have_all_numbers_and_each_its_own(office: Office) -> None:
    number(office)
    at_once, each = 6, 5
    meeting = Barrier(at_once)

    def issue(_: int) -> list[str]:
        meeting.wait(60)
        return [number(office) for _ in range(each)]

    with ThreadPoolExecutor(at_once) as people:
        given = [n for numbers in people.map(issue, range(at_once)) for n in numbers]
    assert sorted(given) == [f"INV-2026-{n:05d}" for n in range(2, 2 + at_once * each)]
