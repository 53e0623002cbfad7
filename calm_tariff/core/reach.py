"""Which addresses the product itself may ask: back ends, issuers' keys, desks.

Whoever may type an address could otherwise have our processes ask what only they can reach: this machine, its
neighbours on the link, a cloud's own data service.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from ipaddress import IPv4Address, IPv4Network, IPv6Address, IPv6Network, ip_address, ip_network

from calm_tariff.core.errors import Invalid

Network = IPv4Network | IPv6Network
Address = IPv4Address | IPv6Address
_TRANSLATED = ip_network("64:ff9b::/96")  # RFC 6052


@dataclass(frozen=True, slots=True, kw_only=True)
class Reach:
    """The networks that may be asked. With none `named`, everything that is routed: not this machine itself
    (unless it is `here`), not its link, no group of machines; with `public_only`, no private network either.
    `own_ports` are ours on this machine, and never asked."""

    named: tuple[Network, ...] = ()
    here: bool = False
    own_ports: frozenset[int] = frozenset()
    public_only: bool = False

    def public(self) -> Reach:
        """The same for addresses that outsiders give: public ones alone, whatever networks are named."""
        return replace(self, named=(), public_only=True)

    def refusal(self, address: str, port: int) -> str:
        """Why an IP address and port may not be asked; empty where they may. Raises `ValueError` for no address."""
        found = meant(ip_address(address.partition("%")[0]))
        if port in self.own_ports and (found.is_loopback or found.is_unspecified):
            return f"port {port} of this machine is Calm Tariff's own"
        if any(found.version == network.version and found in network for network in self.named):
            return ""
        if found.is_loopback and self.here:
            return ""
        if found.is_loopback or found.is_unspecified:
            return f"{found} is this machine itself; CALM_REACHES names the networks that may be asked"
        if found.is_link_local or found.is_multicast or found.is_reserved:
            return f"{found} is no address that is routed; CALM_REACHES names the networks that may be asked"
        if self.public_only and not found.is_global:
            return f"{found} is no public address"
        return f"{found} is in none of the networks that CALM_REACHES names" if self.named else ""


def networks(words: Iterable[str]) -> tuple[Network, ...]:
    """Networks as settings name them, such as 10.0.0.0/8 or fd00::/8. Raises `Invalid`."""
    found: list[Network] = []
    for word in words:
        try:
            found.append(ip_network(word, strict=False))
        except ValueError:
            raise Invalid(f"{word!r} is no network, such as 10.0.0.0/8", "CALM_REACHES") from None
    return tuple(found)


def meant(address: Address) -> Address:
    """The IPv4 address that an IPv6 one stands for, where it does."""
    if isinstance(address, IPv6Address):
        if address.ipv4_mapped is not None:
            return address.ipv4_mapped
        if address.sixtofour is not None:
            return address.sixtofour
        if address in _TRANSLATED:
            return IPv4Address(int(address) & 0xFFFFFFFF)
    return address
