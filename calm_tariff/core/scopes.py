"""What a service token may be narrowed to: reading or changing what is of one place."""

from __future__ import annotations

from collections.abc import Collection, Iterable

from calm_tariff.core.errors import Invalid

# The places of the console's API, each with its own folder.
PLACES = ("house", "compose", "admit", "serve", "observe", "settle")
SCOPES = tuple(f"{act} {place}" for place in PLACES for act in ("read", "change"))


def scopes_of(texts: Iterable[str], field: str = "scopes") -> tuple[str, ...]:
    """Scopes by their names, each once, in their own order. Raises `Invalid`, naming the field."""
    wanted = set(texts)
    unknown = sorted(wanted - set(SCOPES))
    if unknown:
        raise Invalid(f"must be of {', '.join(SCOPES)}; {unknown[0][:60]} is none of them", field)
    return tuple(scope for scope in SCOPES if scope in wanted)


def needed(place: str, reading: bool) -> str:
    """The scope that reading, or changing, what is of a place needs."""
    return f"{'read' if reading else 'change'} {place}"


def covers(scopes: Collection[str], wanted: str) -> bool:
    """Whether a token of these scopes may do what needs the one that is `wanted`: whoever may change may read. Without
    scopes, it is not narrowed."""
    return not scopes or wanted in scopes or wanted.replace("read ", "change ", 1) in scopes
