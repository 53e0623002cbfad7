"""What the members of an organisation may do, by their role; and that somebody always owns its account."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from typing import Literal, get_args

from calm_tariff.core.errors import Conflict, Invalid

Role = Literal["owner", "developer", "billing"]
Act = Literal[
    "see use",
    "see credentials",
    "run applications",
    "ask for plans",
    "move subscriptions",
    "see money",
    "say how it pays",
    "set alerts",
    "ask and rate",
    "run the account",
]
ROLES: tuple[Role, ...] = get_args(Role)
_EVERYBODY = frozenset(ROLES)
_WHO_BUILD = frozenset[Role]({"owner", "developer"})
_OWNER = frozenset[Role]({"owner"})

# The roles of each act.
MAY: Mapping[Act, frozenset[Role]] = {
    "see use": _EVERYBODY,
    "see credentials": _WHO_BUILD,
    "run applications": _WHO_BUILD,
    "ask for plans": _WHO_BUILD,
    "move subscriptions": _OWNER,
    "see money": frozenset[Role]({"owner", "billing"}),
    "say how it pays": frozenset[Role]({"owner", "billing"}),
    "set alerts": _EVERYBODY,
    "ask and rate": _WHO_BUILD,
    "run the account": _OWNER,
}
# What is left of an account that is closed.
AFTER_CLOSING = frozenset[Act]({"see use", "see money"})
# Who can still sign in to it.
STAY = MAY["see money"]


@dataclass(frozen=True, slots=True)
class Belongs:
    """Somebody who belongs to an organisation, and as what."""

    member: int
    role: Role


def role(text: str, field: str = "role") -> Role:
    """A role by its name. Raises `Invalid`, naming the field."""
    for each in ROLES:
        if each == text:
            return each
    raise Invalid(f"must be one of {', '.join(ROLES)}", field)


def given(all_of: Collection[Belongs], member: int, to: Role) -> list[Belongs]:
    """An organisation's members once one of them has another role. Raises `Conflict` where nobody would own its
    account."""
    return _owned([Belongs(m.member, to) if m.member == member else m for m in all_of])


def without(all_of: Collection[Belongs], member: int) -> list[Belongs]:
    """An organisation's members once one of them has left. Raises `Conflict` where nobody would own its account."""
    return _owned([m for m in all_of if m.member != member])


def handed_over(all_of: Collection[Belongs], by: int, to: int) -> list[Belongs]:
    """An organisation's members once one of its owners, `by`, has handed that over to another of them: a developer
    then. Raises `Invalid` where that is nobody else."""
    if by == to or to not in {m.member for m in all_of}:
        raise Invalid("must be somebody else who belongs to it", "to")
    roles: dict[int, Role] = {by: "developer", to: "owner"}
    return [Belongs(m.member, roles.get(m.member, m.role)) for m in all_of]


def _owned(then: list[Belongs]) -> list[Belongs]:
    if not any(m.role == "owner" for m in then):
        raise Conflict("somebody must own the account: make somebody else its owner first", "role")
    return then
