"""The record is one chain: entries are told by whom, narrowed, and whatever is done to them afterwards is found."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import replace
from datetime import UTC, date, datetime
from threading import Barrier

import pytest
from sqlalchemy import text

from calm_tariff.core.chain import ERASED
from calm_tariff.core.errors import Invalid, NotSignedIn
from calm_tariff.services.base import auditing
from calm_tariff.services.base.auditing import EntryFilter
from calm_tariff.services.base.context import Context
from calm_tariff.services.house import record
from calm_tariff.store.base.paging import PageQuery
from tests.office import Office
from tests.services.accounts import signed_in, token_of


def note(ctx: Context, subject: str, kind: str = "thing", number: int = 7, **more: object) -> None:
    with ctx.transaction() as session:
        auditing.note(session, ctx, "tried", (kind, number, subject), **more)  # type: ignore[arg-type]


def told(office: Office, **narrowed: object) -> list[str]:
    found = auditing.entries(office.manager, PageQuery(rows=1000), EntryFilter(**narrowed))  # type: ignore[arg-type]
    assert found.total == len(found.rows)
    return [e.subject for e in found.rows]


def test_a_record_that_nobody_touched_is_whole_and_tells_its_end(office: Office) -> None:
    before = record.proof(office.manager)
    assert before.wrong == "" and before.entries == before.number > 0
    note(office.manager, "the weir", before={"a": 1}, after={"10": None, "9": ["ü", True]}, why="Because.")
    after = record.proof(office.manager)
    assert (after.entries, after.number) == (before.entries + 1, before.number + 1)
    assert after.digest != before.digest and after.wrong == ""


def test_entries_of_many_at_once_are_one_chain_without_a_gap(office: Office) -> None:
    gate, start = Barrier(8), record.proof(office.manager).number

    def many(which: int) -> None:
        gate.wait()
        for n in range(10):
            with suppress(ZeroDivisionError), office.ctx.transaction() as session:
                for part in range(1 + n % 3):
                    auditing.note(session, office.manager, "tried", ("thing", which, f"{which}.{n}.{part}"))
                if n == 5:
                    raise ZeroDivisionError

    with ThreadPoolExecutor(8) as pool:
        list(pool.map(many, range(8)))
    proof = record.proof(office.manager)
    kept = 8 * sum(1 + n % 3 for n in range(10) if n != 5)
    assert (proof.wrong, proof.number) == ("", start + kept)
    mine = [s for s in told(office, subject_id=3, subject_kind="thing") if s.startswith("3.")]
    assert mine == sorted(mine, reverse=True)


@pytest.mark.parametrize(
    ("tampering", "words"),
    [
        ("UPDATE audit_entry SET why = 'another' WHERE id = :id", "entry {id} does not say what it said"),
        ("UPDATE audit_entry SET actor = 'Somebody' WHERE id = :id", "entry {id} does not say what it said"),
        ("UPDATE audit_entry SET `by` = 'person 99' WHERE id = :id", "entry {id} does not say what it said"),
        ("UPDATE audit_entry SET at = at + INTERVAL 1 MICROSECOND WHERE id = :id", "entry {id} does not say"),
        ("UPDATE audit_entry SET `after` = '{\"a\": 3}' WHERE id = :id", "entry {id} does not say"),
        ("UPDATE audit_entry SET content = REPEAT('0', 64) WHERE id = :id", "entry {id} does not follow"),
        ("CALL empty_entry(:id, :id + 2, TRUE)", ""),
        ("CALL empty_entry(:id, :id + 1, FALSE)", "entry {id} was emptied, and no entry"),
        ("CALL empty_entry(:id, 999999, FALSE)", "entry {id} was emptied, and no entry 999999 tells of it"),
        (
            "UPDATE audit_entry SET erased_by = :id + 2 WHERE id = :id",
            "entry {id} says something, though it was emptied",
        ),
        ("UPDATE audit_entry SET erased_by = :id + 2, why = 'x' WHERE id = :id", "entry {id} says something"),
        ("DELETE FROM audit_entry WHERE id = :id", "does not follow on the one before it"),
        ("DELETE FROM audit_entry WHERE id > :id", "must end at {end}: what came last is missing"),
        ("UPDATE record_end SET number = number + 1", "must end at"),
        ("UPDATE audit_entry SET id = 999999 WHERE id = :id + 2", "does not follow|must end at"),
    ],
)
def test_what_was_tampered_with_is_found_and_named(office: Office, tampering: str, words: str) -> None:
    for n in range(2):
        note(office.manager, f"thing {n}", after={"a": 1}, why="Because.")
    with office.ctx.transaction() as session:
        auditing.note(session, office.manager, f"{ERASED} of a member", ("member", 1, "erased member 1"))
    end = record.proof(office.manager).number
    with office.ctx.transaction() as session:
        session.execute(text(tampering), {"id": end - 2})
    found = record.proof(office.manager)
    if not words:  # an entry whose words were taken out, by one that tells so
        assert (found.wrong, found.erased) == ("", 1)
        return
    assert found.number < end or "end" in words or "was emptied" in words
    assert any(part.format(id=end - 2, end=end) in found.wrong for part in words.split("|")), found.wrong


def test_a_digest_that_was_kept_elsewhere_finds_a_record_that_was_written_anew(office: Office) -> None:
    note(office.manager, "the weir")
    kept = record.proof(office.manager)
    line = f"{kept.number}:{kept.digest}"
    note(office.manager, "the lock")
    assert record.proof(office.manager, line).wrong == ""
    for wrong, words in (
        (f"{kept.number}:{'0' * 64}", "is another one"),
        (f"{kept.number + 50}:{kept.digest}", "there is no entry"),
        ("nonsense", "there is no entry nonsense"),
        ("9" * 30, "there is no entry"),
    ):
        assert words in record.proof(office.manager, wrong).wrong


def test_a_part_that_failed_leaves_no_entry_and_the_rest_stays(office: Office) -> None:
    with office.ctx.transaction() as session:
        auditing.note(session, office.manager, "tried", ("thing", 1, "before"))
        with suppress(ZeroDivisionError), auditing.apart(session):
            auditing.note(session, office.manager, "tried", ("thing", 1, "apart"))
            raise ZeroDivisionError
        with auditing.apart(session):
            auditing.note(session, office.manager, "tried", ("thing", 1, "after"))
    assert told(office, subject_kind="thing") == ["after", "before"]
    assert record.proof(office.manager).wrong == ""


def test_the_record_is_narrowed_by_whom_thing_kind_and_days_of_the_provider(office: Office) -> None:
    rui, ines = signed_in(office, "reviewer@test.example"), signed_in(office)
    script = office.ctx.acting(replace(ines.actor, name="token x", person_id=None, token_id=5))
    # Lisbon is an hour ahead: half an hour before midnight, and midnight
    for ctx, moment in (
        (rui, datetime(2026, 9, 30, 22, 30, tzinfo=UTC)),
        (script, datetime(2026, 9, 30, 23, tzinfo=UTC)),
    ):
        office.clock.now = moment
        note(ctx, ctx.actor.name, number=3)
    assert told(office, by=rui.actor.identity, subject_kind="thing") == ["reviewer"]
    assert told(office, by="token 5") == ["token x"]
    assert told(office, subject_kind="thing", subject_id=3) == ["token x", "reviewer"]
    assert told(office, subject_kind="thing", subject_id=4) == []
    assert told(office, action="tried") == ["token x", "reviewer"]
    assert told(office, subject_kind="thing", last=date(2026, 9, 30)) == ["reviewer"]
    assert told(office, subject_kind="thing", first=date(2026, 10, 1)) == ["token x"]
    for wrong in (date(1, 1, 1), date(9999, 12, 31)):
        with pytest.raises(Invalid) as refused:
            told(office, first=wrong)
        assert refused.value.where == "first"
    found = record.choices(office.manager)
    assert {"tried", "signed in"} <= set(found.actions) and "thing" in found.subject_kinds
    assert {a.by: a.name for a in found.authors}[rui.actor.identity] == "reviewer"


def test_an_entry_tells_what_changed_and_who_did_it_by_id(office: Office) -> None:
    ines = signed_in(office)
    token_of(ines, "nightly", scopes=("read settle",))
    [entry] = auditing.entries(office.manager, PageQuery(words="made a service token")).rows
    assert entry.by == ines.actor.identity == f"person {ines.actor.person_id}"
    said = {c.what: (c.before, c.after) for c in entry.changes}
    assert said["scopes"] == (None, "read settle") and said["roles"] == (None, "product manager")


def test_no_consumer_looks_at_the_record_in_any_way(office: Office) -> None:
    member = office.acting(office.consumers[0])
    for look in (record.proof, record.choices):
        with pytest.raises(NotSignedIn):
            look(member)
