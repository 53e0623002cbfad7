"""The provider's own people: the roles that they hold, any of which says what they may do; and that somebody always
owns the house."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Literal, get_args

from calm_tariff.core.errors import Conflict, Invalid

HouseRole = Literal["product manager", "reviewer", "operations", "finance", "owner"]
ROLES: tuple[HouseRole, ...] = get_args(HouseRole)
# Who runs the house itself: people, settings, notices, everybody's tokens.
OWNER: HouseRole = "owner"


@dataclass(frozen=True, slots=True, kw_only=True)
class Employed:
    """One of the provider's people: the roles they hold, and whether they can sign in."""

    person: int
    roles: frozenset[HouseRole]
    active: bool = True


def roles_of(texts: Iterable[str], field: str = "roles") -> tuple[HouseRole, ...]:
    """Roles by their names, each once, in their own order. Raises `Invalid`, naming the field, where there is none, or
    one that is unknown."""
    wanted = set(texts)
    unknown = sorted(wanted - set(ROLES))
    if unknown:
        raise Invalid(f"must be of {', '.join(ROLES)}; {unknown[0][:60]} is none of them", field)
    if not wanted:
        raise Invalid("must be at least one", field)
    return tuple(role for role in ROLES if role in wanted)


def with_roles(all_of: Collection[Employed], person: int, roles: Iterable[HouseRole]) -> list[Employed]:
    """The provider's people once one of them holds other roles. Raises `Conflict` where nobody would own the house."""
    then = frozenset(roles)
    return _owned([Employed(person=e.person, roles=then, active=e.active) if e.person == person else e for e in all_of])


def without(all_of: Collection[Employed], person: int) -> list[Employed]:
    """The provider's people once one of them can sign in no more. Raises `Conflict` where nobody would own the
    house."""
    return _owned(
        [Employed(person=e.person, roles=e.roles, active=e.active and e.person != person) for e in all_of],
    )


def claimed(values: Iterable[str], roles_by: Mapping[str, Sequence[str]]) -> tuple[HouseRole, ...]:
    """The roles that the values of a provider's claim give; none where none of them gives any."""
    given = {role for value in values for role in roles_by.get(value, ())}
    return tuple(role for role in ROLES if role in given)


def _owned(then: list[Employed]) -> list[Employed]:
    if not any(e.active and OWNER in e.roles for e in then):
        raise Conflict("somebody must own it: make somebody else its owner first", "the house")
    return then
