"""Why somebody takes money, access or a place away: said in words, for the record and for those it touches."""

from __future__ import annotations

from calm_tariff.core.errors import Invalid

LONGEST = 2000


def given(text: str, wanted: str = "say why", field: str = "reason") -> str:
    """A reason as it is kept. Raises `Invalid`, naming the field, for none, with what is `wanted`, and for one that is
    too long."""
    reason = text.strip()
    if not reason:
        raise Invalid(wanted, field)
    if len(reason) > LONGEST:
        raise Invalid(f"must have at most {LONGEST:,} characters", field)
    return reason
