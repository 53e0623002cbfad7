"""Merging one organisation into another, which goes on in its place: who may be merged, and what its applications and
members are there."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from calm_tariff.core.membership import Role
from calm_tariff.core.names import LONGEST, cut

_NOT_OPEN = {
    "suspended": "Calls of {name} are suspended; resume them first.",
    "waiting": "{name} waits to be let in.",
}


@dataclass(frozen=True, slots=True, kw_only=True)
class Merged:
    """One of the two organisations: its name, and the state of its account (core.lifecycles.CONSUMER)."""

    id: int
    name: str
    state: str


def hindered(one: Merged, into: Merged) -> list[str]:
    """What hinders that one organisation is merged into another, in sentences."""
    if one.id == into.id:
        return ["An organisation is not merged into itself."]
    return [
        _NOT_OPEN.get(each.state, "The account of {name} is not open.").format(name=each.name)
        for each in (one, into)
        if each.state != "let in"
    ]


def role_there(role: Role, *, owned: bool) -> Role:
    """What a member is in the organisation that goes on: whoever owned the other's account is a developer there, unless
    nobody owns it."""
    return "developer" if role == "owner" and owned else role


def name_there(name: str, taken: Callable[[str], bool]) -> str:
    """What an application is called in the organisation that goes on: as it was, or, where that name is `taken` there,
    with a number behind it. Where it came from is not in it: that may have to be erased."""
    found, place = name, 1
    while taken(found):
        place += 1
        behind = f" ({place})"
        found = cut(name, LONGEST - len(behind)) + behind
    return found
