"""Whose a call of another gateway is, for which operation, under which stay at its instant, and what it comes to by the
meters: what the gateway would have found out itself.

Source: docs/arithmetic.md, sections 1 and 6.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from calm_tariff.core import meters, outside_calls
from calm_tariff.core.errors import Invalid
from calm_tariff.core.ids import outside_call_id
from calm_tariff.core.meters import Environment
from calm_tariff.core.meters import Meter as MeterRule
from calm_tariff.core.outside_calls import OutsideCall
from calm_tariff.core.paths import Router
from calm_tariff.core.refusals import ANOTHER_GATEWAY
from calm_tariff.services.serve.grants import Grant

# So many paths are remembered with what they lead to.
MOST_PATHS = 100_000


@dataclass(frozen=True, slots=True)
class Whose:
    """Who made a call: an application, by a key where one is known."""

    application_id: int
    client_id: str
    consumer_id: int
    environment: Environment
    key_id: int | None
    credential: str


@dataclass(frozen=True, slots=True)
class What:
    """What a call was for."""

    operation_id: int
    version_id: int


@dataclass(frozen=True, slots=True, eq=False)
class Place:
    """A stretch of time in which an application's calls on an operation belong to one stay and meet the same meters.
    `depends` says that what a call comes to depends on more than its status."""

    whose: Whose
    what: What
    grant: Grant
    start_us: int
    end_us: int | None
    counting: tuple[tuple[int, MeterRule], ...]
    depends: bool
    _by_status: dict[int, dict[str, str]] = field(default_factory=dict)

    def units(self, call: OutsideCall) -> dict[str, str]:
        """What a call comes to, by meter id."""
        if call.refused:
            return {}
        if self.depends:
            return self._read(call)
        found = self._by_status.get(call.status)
        if found is None:
            found = self._by_status[call.status] = self._read(call)
        return found

    def flagged(self, call: OutsideCall) -> list[str]:
        """What was odd about a call: a number that a meter reads was absent, or none."""
        return [
            f"{meter.header} was absent or no number, and counted 0"
            for _, meter in self.counting
            if meter.header and not call.refused and (read := self._reading(meter, call)) and read.flagged
        ]

    def _read(self, call: OutsideCall) -> dict[str, str]:
        found = {}
        for meter_id, meter in self.counting:
            read = self._reading(meter, call)
            if read is not None:
                found[str(meter_id)] = str(read.units)
        return found

    def _reading(self, meter: MeterRule, call: OutsideCall) -> meters.Reading | None:
        seen = meters.Outcome(
            operation=str(self.what.operation_id),
            status=call.status,
            bytes_in=call.bytes_in,
            bytes_out=call.bytes_out,
            environment=self.whose.environment,
            reported=call.reported.get(meter.header.lower()) if meter.header else None,
            credential=self.whose.credential,
        )
        return meters.reading(meter, seen)


class Placed(NamedTuple):
    """A call with the place it belongs to. A tuple, because files have a million of them."""

    call_id: str
    call: OutsideCall
    place: Place


@dataclass(slots=True)
class Places:
    """Everything calls are placed by, as it stood at one moment: the stamp `number`."""

    number: int
    kept_from_us: int
    now_us: int
    ours: frozenset[str]
    trials: frozenset[int]
    keys: Mapping[str, list[Whose]]
    applications: Mapping[str, Whose]
    versions: list[Version]
    grants: Mapping[int, list[Grant]]
    sold: Mapping[int, frozenset[int]]
    meters: list[tuple[int, MeterRule, int]]
    _known: dict[tuple[str, str], Whose] = field(default_factory=dict)
    _paths: dict[tuple[str, str, str], What] = field(default_factory=dict)
    _places: dict[tuple[int, int | None, int], tuple[Place, ...]] = field(default_factory=dict)

    def place(self, call: OutsideCall) -> Placed:
        """A call where it belongs. Raises `Invalid`, naming the part by which it belongs nowhere."""
        at_us = call.at_us
        if not self.kept_from_us <= at_us <= self.now_us:
            outside_calls.must_be_told_apart(call, self.kept_from_us, self.now_us)
        if call.source in self.ours:
            raise Invalid("is the name of a gateway of this house, which counts its calls itself", "source")
        whose = self._known.get((call.credential, call.application)) or self._whose(call)
        what = self._paths.get((call.method, call.path, call.api)) or self._what(call)
        key = (whose.application_id, whose.key_id, what.operation_id)
        found = self._places.get(key)
        if found is None:
            found = self._places[key] = tuple(self._made(whose, what))
        for place in found:
            if place.start_us <= at_us and (place.end_us is None or at_us < place.end_us):
                return Placed(outside_call_id(call.source, call.id), call, place)
        raise Invalid(f"no subscription of {whose.client_id} let it through at that time", call.path)

    def _whose(self, call: OutsideCall) -> Whose:
        found = self.applications.get(call.application) if call.application else None
        if call.application and found is None:
            raise Invalid(f"there is no application {call.application[:60]}", "application")
        if call.credential:
            shown = call.credential.rstrip("….")
            keys = self.keys.get(shown) or self.keys.get(call.credential) or []
            if found is not None:
                keys = [key for key in keys if key.application_id == found.application_id]
            if len(keys) != 1:
                wrong = "belongs to more than one key" if keys else "is the beginning of no key, and no client id"
                raise Invalid(f"{call.credential[:12]} {wrong}", "credential")
            found = keys[0]
        assert found is not None
        self._known[call.credential, call.application] = found
        return found

    def _what(self, call: OutsideCall) -> What:
        method, path = call.method, call.path
        leads = [version for version in self.versions if version.takes(path) and call.api in ("", version.name)]
        leads = [version for version in leads if len(version.base) == len(leads[0].base)]
        if not call.api and len(leads) > 1:
            leads = [version for version in leads if version.by_path] or leads
        if len(leads) > 1:
            names = " or ".join(version.name for version in leads)
            raise Invalid(f"is of {names}: say which in api", "path")
        if not leads:
            what = f"is of no version of {call.api[:60]}" if call.api else "is of no API"
            raise Invalid(f"{call.path[:80]} {what}", "path")
        match = leads[0].router.match(method, path[len(leads[0].base) :] or "/")
        if match is None or match.operation_id is None:
            raise Invalid(f"{method} {call.path[:80]} is no operation of {leads[0].name}", "path")
        if len(self._paths) > MOST_PATHS:
            self._paths.clear()
        found = self._paths[method, call.path, call.api] = What(match.operation_id, leads[0].id)
        return found

    def _made(self, whose: Whose, what: What) -> Iterator[Place]:
        """Where calls of an application on an operation belong, by time. Where two of its subscriptions sell the
        operation, the older one does."""
        operation = str(what.operation_id)
        covering = [
            (meter_id, rule, since)
            for meter_id, rule, since in self.meters
            if meters.covers(rule, operation, whose.environment, whose.credential)
        ]
        for grant in self.grants.get(whose.application_id, ()):
            if what.operation_id not in self.sold.get(grant.product_id, ()):
                continue
            # A meter counts from when it was made.
            begun = {since for _, _, since in covering if since > grant.start_us}
            edges = [grant.start_us, *sorted(at for at in begun if grant.end_us is None or at < grant.end_us)]
            for start, end in zip(edges, [*edges[1:], grant.end_us], strict=True):
                in_force = tuple((meter_id, rule) for meter_id, rule, since in covering if since <= start)
                depends = any(rule.measure != "calls" for _, rule in in_force)
                yield Place(whose, what, grant, start, end, in_force, depends)


@dataclass(frozen=True, slots=True)
class Version:
    """A version of an API by its base path and its name; `by_path` says that nothing but the path leads there."""

    id: int
    name: str
    base: str
    by_path: bool
    router: Router

    def takes(self, path: str) -> bool:
        return path == self.base or path.startswith(f"{self.base}/") or self.base == "/"


def record_of(placed: Placed, file_id: int | None) -> dict[str, Any]:
    """A placed call as it is recorded; columns as in `store.serve.usage.Call`."""
    call, place = placed.call, placed.place
    return {
        **said_of(placed),
        "usage_file_id": file_id,
        "environment": place.whose.environment,
        "refused_by": ANOTHER_GATEWAY if call.refused else None,
        "wait_us": 0,
        "took_us": 0,
        "retry_after_us": None,
        "operation_id": place.what.operation_id,
        "api_version_id": place.what.version_id,
        "product_id": place.grant.product_id,
        "revision_id": place.grant.revision_id,
        "stay_id": place.grant.stay_id,
        "subscription_id": place.grant.subscription_id,
        "key_id": place.whose.key_id,
        "consumer_id": place.whose.consumer_id,
        "checks": [],
        "units": place.units(call),
        "told": {},
        "credential": place.whose.credential,
        "remarks": place.flagged(call) if place.depends else [],
    }


def said_of(placed: Placed) -> dict[str, Any]:
    """What its source alone says of a call: what a repeat is held against."""
    call = placed.call
    return {
        "call_id": placed.call_id,
        "at_us": call.at_us,
        "source": call.source,
        "outside_id": call.id,
        "application_id": placed.place.whose.application_id,
        "verdict": "refused" if call.refused else "served",
        "status": call.status,
        "bytes_in": call.bytes_in,
        "bytes_out": call.bytes_out,
        "method": call.method,
        "path": call.path,
        "reported": dict(call.reported),
    }
