"""What a credential is narrowed to: where its calls may come from, and what they may ask for."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from ipaddress import ip_address, ip_network

from calm_tariff.core.errors import Invalid
from calm_tariff.core.reach import Network, meant

MOST_NETWORKS = 50


@dataclass(frozen=True, slots=True)
class Bounds:
    """Networks that calls may come from, and operations that they may be for; none of a kind bounds nothing."""

    networks: tuple[Network, ...] = ()
    operations: frozenset[int] = frozenset()

    def admits_address(self, address: str) -> bool:
        """Whether a call may come from an address; from one that is unknown it may not, where any are named."""
        if not self.networks:
            return True
        try:
            found = meant(ip_address(address.partition("%")[0]))
        except ValueError:
            return False
        return any(found.version == network.version and found in network for network in self.networks)

    def admits_operation(self, operation: int) -> bool:
        """Whether a call may be for an operation."""
        return not self.operations or operation in self.operations


def networks(words: Iterable[str], field: str) -> tuple[Network, ...]:
    """Addresses and networks as they are kept, each once: such as 192.0.2.7 or 2001:db8::/32. Raises `Invalid`, naming
    the place."""
    found: dict[Network, None] = {}
    for place, word in enumerate(words):
        try:
            found[ip_network(word.strip(), strict=False)] = None
        except ValueError:
            raise Invalid(f"{word!r} is no address or network, such as 192.0.2.0/24", f"{field}.{place}") from None
    if len(found) > MOST_NETWORKS:
        raise Invalid(f"may be at most {MOST_NETWORKS}", field)
    return tuple(found)


def kept(addresses: Iterable[str], operations: Iterable[int]) -> Bounds | None:
    """Bounds as they were kept; None where nothing is bounded."""
    made = Bounds(tuple(ip_network(each) for each in addresses), frozenset(operations))
    return made if made.networks or made.operations else None
