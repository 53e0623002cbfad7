"""What is known of a call, step by step: each step is a value of its own, which holds the step before.

A call is `Located`, what it shows is read (`Shown`), then whose it is (`Identified`), for which operation (`Routed`),
under which subscription (`Admitted`), and the limits are tested (`Judged`). It may be `Refused` at any step.
"""

from __future__ import annotations

import os
from dataclasses import dataclass, field
from typing import Any, NamedTuple, TypeVar

from calm_tariff.core.ids import call_id
from calm_tariff.core.limits import Call
from calm_tariff.core.meters import Environment
from calm_tariff.formats.bodies import Beginning
from calm_tariff.formats.replies import Headers
from calm_tariff.gateway.compiled.compiling import Access
from calm_tariff.gateway.compiled.snapshot import Place
from calm_tariff.gateway.counts.counters import Decided
from calm_tariff.gateway.verdict.credentials import Fault, Identity, Presented


class InboundCall(NamedTuple):
    """A call as it arrived, at an instant in µs since the epoch, with a name of its own.

    `address` is where it came from, `peer` who sent it to us: the same, unless a trusted proxy did (`by_proxy`).
    `certified` says that its Client-Cert field is such a proxy's word.
    """

    id: str
    at_us: int
    method: str
    path: str
    query: bytes
    headers: Headers
    address: str = ""
    peer: str = ""
    by_proxy: bool = False
    certified: bool = False


def new_id(at_us: int) -> str:
    """A name for a call of an instant."""
    return call_id(at_us, int.from_bytes(os.urandom(10), "big"))


class Located(NamedTuple):
    """A call and where its path leads, if anywhere."""

    call: InboundCall
    place: Place | None


class Shown(NamedTuple):
    """And the credential it carries."""

    located: Located
    presented: Presented


class Identified(NamedTuple):
    """And whose it is."""

    shown: Shown
    identity: Identity

    @property
    def call(self) -> InboundCall:
        """The call itself."""
        return self.shown.located.call

    @property
    def environment(self) -> Environment:
        """Live, unless the credential is of the sandbox."""
        return "sandbox" if self.identity.environment == "sandbox" else "live"


class Routed(NamedTuple):
    """And the operation it is for."""

    identified: Identified
    place: Place
    operation_id: int


class Admitted(NamedTuple):
    """And the subscription that covers it, with what it meets there."""

    routed: Routed
    access: Access

    @property
    def identified(self) -> Identified:
        """Whose it is."""
        return self.routed.identified

    @property
    def call(self) -> InboundCall:
        """The call itself."""
        return self.routed.identified.call

    @property
    def place(self) -> Place:
        """Where its path leads."""
        return self.routed.place

    @property
    def environment(self) -> Environment:
        """Live or sandbox."""
        return self.routed.identified.environment


class Judged(NamedTuple):
    """And what the limits said of it: as they saw it, in `took_us` µs."""

    admitted: Admitted
    counted: Call
    decided: Decided
    took_us: int

    @property
    def call(self) -> InboundCall:
        """The call itself."""
        return self.admitted.call

    @property
    def let_through(self) -> bool:
        """Whether the back end is to be asked."""
        return self.decided.decision.verdict != "refused"


Step = Located | Shown | Identified | Routed | Admitted


class Refused(NamedTuple):
    """A call that is refused for another reason than its limits: how far it came, and why. `fields` go on the answer,
    `took_us` is how long deciding took."""

    step: Step
    fault: Fault
    fields: Headers = []
    took_us: int = 0

    @property
    def call(self) -> InboundCall:
        """The call itself."""
        return located(self).call


Verdict = Judged | Refused
S = TypeVar("S", Located, Shown, Identified, Routed, Admitted)


def admitted(known: Step | Verdict) -> Admitted | None:
    """The step at which a call was admitted, where it came so far."""
    return _reached(known, Admitted)


def routed(known: Step | Verdict) -> Routed | None:
    """The step at which its operation was known."""
    return _reached(known, Routed)


def identified(known: Step | Verdict) -> Identified | None:
    """The step at which it was known whose it is."""
    return _reached(known, Identified)


def shown(known: Step | Verdict) -> Shown | None:
    """The step at which its credential was read."""
    return _reached(known, Shown)


def located(known: Step | Verdict) -> Located:
    """The first step."""
    found = _reached(known, Located)
    assert found is not None  # every call came so far
    return found


def _reached(known: Step | Verdict, step: type[S]) -> S | None:
    """The step of a kind that a call came to: each holds the one before it first."""
    at: Any = known
    while not isinstance(at, step):
        if isinstance(at, Located):
            return None
        at = at[0]
    return at


@dataclass(slots=True)
class Outcome:
    """What becomes of a call while it is answered: it is complete when the call is recorded. The beginnings of its
    bodies, with the fields that describe them, are there where they are to be kept."""

    status: int = 0
    bytes_in: int = 0
    bytes_out: int = 0
    back_end_us: int = 0
    told: dict[str, str] = field(default_factory=dict)
    reported: dict[str, str | None] = field(default_factory=dict)
    remarks: list[str] = field(default_factory=list)
    sent_body: Beginning | None = None
    sent_fields: dict[str, str] = field(default_factory=dict)
    answered_body: Beginning | None = None
    answered_fields: dict[str, str] = field(default_factory=dict)

    def tells(self, fields: Headers) -> None:
        """Keep the fields the caller is told."""
        self.told = {name.decode(): value.decode("latin-1") for name, value in fields if name != b"content-type"}
