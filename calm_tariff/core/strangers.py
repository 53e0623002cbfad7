"""Callers without a credential: whose count their calls are, and the limit under which they try the sandbox."""

from __future__ import annotations

from ipaddress import IPv6Address, ip_address, ip_network

from calm_tariff.core.errors import Invalid
from calm_tariff.core.limits import Window
from calm_tariff.core.periods import HOUR, SECOND
from calm_tariff.core.reach import meant
from calm_tariff.core.terms import PlanTerms

MOST_TRIES = 10_000
TRIES_NAME = "Tries without an account"
# Of an IPv6 address, whoever has it has the whole of this (RFC 6177).
_ONES_OWN = 64


def whose(address: str) -> str:
    """Whose count a call from an address is: the address itself, or the network that one with an IPv6 address has to
    choose from. Those that are no address count together."""
    try:
        found = meant(ip_address(address.partition("%")[0]))
    except ValueError:
        return "unknown"
    return str(ip_network((found, _ONES_OWN), strict=False) if isinstance(found, IPv6Address) else found)


def trying(calls: int) -> PlanTerms:
    """The terms under which the sandbox is tried without an account: so many calls from an address in any hour.
    Raises `Invalid` where that makes no sense."""
    if not 1 <= calls <= MOST_TRIES:
        raise Invalid(f"must be between 1 and {MOST_TRIES:,}", "tries_an_hour")
    hour = HOUR // SECOND
    limit = Window(name=TRIES_NAME, counted_per="address", calls=calls, per_seconds=hour, rolling=True)
    return PlanTerms(limits=(limit,))
