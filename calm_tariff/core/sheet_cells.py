"""A cell of a tariff sheet: a term of one plan in words that can be changed, held against the live revision."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

from calm_tariff.core.sentences import Sentence, words
from calm_tariff.core.terms import PlanTerms


@dataclass(frozen=True, slots=True, kw_only=True)
class SheetPart:
    """Some words of a cell; with `field`, a word that can be changed (see core.sentences.Part)."""

    text: str
    field: str
    input: str
    value: str
    choices: list[tuple[str, str]]
    changed: bool


@dataclass(frozen=True, slots=True)
class SheetAction:
    """A change a cell offers: put `value` at `path` of the terms (a path ending in `-` appends); a
    value of None takes away what is there. `opens` names an editor that makes the value instead."""

    label: str
    path: str
    value: Any  # one of the core's, until it is written as terms are
    opens: Literal["", "steps"] = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class SheetCell:
    """A term of one plan. `was` is what the live revision says where it differs; `absent` stands
    where the plan has no such term."""

    plan_id: int
    sentences: list[list[SheetPart]]
    was: list[str]
    absent: str
    changed: bool
    actions: list[SheetAction]


@dataclass(frozen=True, slots=True)
class Column:
    """A plan's terms as drafted, and as live where it has a revision."""

    plan_id: int
    terms: PlanTerms
    live: PlanTerms | None


def words_of(cell: SheetCell) -> str:
    """A cell's sentences as plain text."""
    return "; ".join("".join(part.text for part in sentence) for sentence in cell.sentences)


def parts_of(sentence: Sentence) -> list[SheetPart]:
    """A sentence as a screen shows it, nothing in it changed."""
    return [
        SheetPart(text=p.text, field=p.field, input=p.input, value=p.value, choices=list(p.choices), changed=False)
        for p in sentence
    ]


def cell_of(
    column: Column, drafted: list[Sentence], live: list[Sentence], absent: str, actions: list[SheetAction]
) -> SheetCell:
    """The cell of a term, with what the live revision says where it differs."""
    before = [words(s) for s in live]
    now = [words(s) for s in drafted]
    changed = column.live is not None and before != now
    was = [clauses_that_differ(old, now[n] if n < len(now) else "") for n, old in enumerate(before) if changed]
    if changed and not before:
        was = [absent]
    sentences = [
        [
            SheetPart(
                text=p.text,
                field=p.field,
                input=p.input,
                value=p.value,
                choices=list(p.choices),
                changed=changed and bool(p.field) and (n >= len(live) or _differs(s, live[n], place)),
            )
            for place, p in enumerate(s)
        ]
        for n, s in enumerate(drafted)
    ]
    return SheetCell(
        plan_id=column.plan_id,
        sentences=sentences,
        was=[w for w in was if w],
        absent=absent,
        changed=changed,
        actions=actions,
    )


def _differs(now: Sentence, before: Sentence, place: int) -> bool:
    return len(now) != len(before) or now[place].text != before[place].text


def clauses_that_differ(old: str, new: str) -> str:
    """The clauses of an old sentence that the new one does not have."""
    split = [c.strip() for c in old.replace("; ", ", ").replace("then ", ", then ").split(", ") if c.strip()]
    kept = {c.strip() for c in new.replace("; ", ", ").replace("then ", ", then ").split(", ")}
    return ", ".join(c for c in split if c not in kept)
