"""A whole tariff as a YAML document (`format: calm-tariff/1`), to be kept and reviewed in version control.

Things are named by their names, operations as `API version METHOD /path`. What is written is complete:
reading it again and applying it to the installation it came from changes nothing.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any, Literal

import yaml

from calm_tariff.core.errors import Invalid
from calm_tariff.core.limits import Limit
from calm_tariff.core.meters import Environment, Measure
from calm_tariff.core.routes import Agreement, Step
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.documents import read_document
from calm_tariff.formats.values import read, write

FORMAT = "calm-tariff/1"
_ALWAYS = ("up_to", "prices", "operations", "target_days")
_TAKEN_FOR_A_NUMBER = re.compile(r"-?[0-9.]+(?:[eE][-+]?[0-9]+)?")


@dataclass(frozen=True, slots=True, kw_only=True)
class TariffMeter:
    """A meter; plans name it by `key`."""

    key: str
    name: str
    operations: tuple[str, ...]
    measure: Measure = "calls"
    header: str | None = None
    outcomes: tuple[str, ...] = ()
    environments: tuple[Environment, ...] = ("live",)
    credentials: tuple[str, ...] = ()
    state: Literal["active", "paused", "archived"] = "active"


@dataclass(frozen=True, slots=True, kw_only=True)
class TariffPlan:
    """A plan: `terms` as they are published, `draft` as somebody works on them; at least one of the two."""

    name: str
    state: Literal["draft", "on sale", "closed", "withdrawn"] = "draft"
    groups: tuple[str, ...] = ()
    terms: PlanTerms | None = None
    draft: PlanTerms | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class TariffRule:
    """Requests for one of these plans, by consumers of one of these groups, for applications of this environment, that
    expect more than `above` units of `meter` a month, are decided by `step`; the first rule that fits decides."""

    step: Step
    plans: tuple[str, ...] = ()
    groups: tuple[str, ...] = ()
    environment: Environment | None = None
    meter: str | None = None
    above: Decimal | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class TariffProduct:
    """A product with its plans in their order. Its requests are decided by the first of `access_rules` that fits, or by
    `access`, with the `agreements` it takes besides, within `target_days` working days. `shows` are the kinds of
    credential its callers show; a key comes in `key_header`, or in the query parameter `key_query` where that is not
    empty. With `moves_anew`, allowances start anew when a subscription moves to another plan."""

    name: str
    operations: tuple[str, ...]
    description: str = ""
    contact: str = ""
    terms_of_use: str = ""
    access: Step = "reviewed"
    access_rules: tuple[TariffRule, ...] = ()
    agreements: tuple[Agreement, ...] = ()
    target_days: int | None = 2
    groups: tuple[str, ...] = ()
    shows: tuple[Literal["key", "basic", "client", "token", "certificate"], ...] = ("key",)
    key_header: str = "X-API-Key"
    key_query: str = ""
    older_fields: bool = False
    moves_anew: bool = False
    plans: tuple[TariffPlan, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class HouseLimitsOf:
    """Limits above the plans: of one API version (`Tides v1`), or of everything where `api` is absent."""

    limits: tuple[Limit, ...]
    api: str | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Tariff:
    """A whole tariff."""

    format: Literal["calm-tariff/1"]
    currency: str
    groups: tuple[str, ...] = ()
    meters: tuple[TariffMeter, ...] = ()
    limits: tuple[HouseLimitsOf, ...] = ()
    products: tuple[TariffProduct, ...] = field(default=())


def read_tariff(text: str) -> Tariff:
    """The tariff of a document. Raises `Invalid`, naming the line or the field."""
    value = read_document(text)
    if not isinstance(value, dict):
        raise Invalid(f"is not a tariff: it must be an object that says `format: {FORMAT}`")
    if value.get("format") != FORMAT:
        raise Invalid(f"must be {FORMAT}", "format")
    tariff = read(Tariff, _exact(value))
    _once([m.key for m in tariff.meters], "meters", "key")
    _once([p.name for p in tariff.products], "products", "name")
    for place, product in enumerate(tariff.products):
        _once([p.name for p in product.plans], f"products[{place}].plans", "name")
        for n, plan in enumerate(product.plans):
            if plan.terms is None and plan.draft is None:
                raise Invalid("needs terms, a draft, or both", f"products[{place}].plans[{n}]")
    return tariff


def write_tariff(tariff: Tariff) -> str:
    """The tariff as a document; the same tariff is always the same text."""
    head = "# yaml-language-server: $schema=tariff.schema.json\n"
    return head + yaml.dump(_lean(write(tariff)), Dumper=_Dumper, sort_keys=False, allow_unicode=True, width=100)


def schema() -> dict[str, Any]:
    """The JSON Schema of the document."""
    from pydantic import TypeAdapter

    made: dict[str, Any] = TypeAdapter(Tariff).json_schema(mode="validation")
    _close(made)
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **made, "title": "A tariff of Calm Tariff"}


class _Dumper(yaml.SafeDumper):
    """Text of several lines as a block, so that terms of use are read and compared line by line."""


def _text(dumper: yaml.SafeDumper, value: str) -> yaml.ScalarNode:
    style = "|" if "\n" in value else "'" if _TAKEN_FOR_A_NUMBER.fullmatch(value) else None
    return dumper.represent_scalar("tag:yaml.org,2002:str", value, style=style)


_Dumper.add_representer(str, _text)
_Dumper.ignore_aliases = lambda self, data: True  # type: ignore[method-assign]


def _lean(value: Any) -> Any:
    """Leave out what is empty anyway, so that a document says only what somebody decided."""
    if isinstance(value, dict):
        return {
            name: _lean(inner)
            for name, inner in value.items()
            if name in _ALWAYS or not (inner in (None, [], "") or (name == "flat" and inner == "0"))
        }
    if isinstance(value, list):
        return [_lean(item) for item in value]
    return value


def _exact(value: Any) -> Any:
    """Numbers with a fraction as decimals by their shortest text, never as binary fractions."""
    if isinstance(value, float):
        return Decimal(repr(value))
    if isinstance(value, dict):
        return {name: _exact(inner) for name, inner in value.items()}
    if isinstance(value, list):
        return [_exact(item) for item in value]
    return value


def _once(names: list[str], where: str, what: str) -> None:
    for place, name in enumerate(names):
        if name in names[:place]:
            raise Invalid(f"{name!r} is here twice", f"{where}[{place}].{what}")


def _close(schema: Any) -> None:
    """Say that objects have no other fields than those named, as the reader does."""
    if isinstance(schema, dict):
        if isinstance(schema.get("properties"), dict):
            schema["additionalProperties"] = False
        for inner in schema.values():
            _close(inner)
    elif isinstance(schema, list):
        for inner in schema:
            _close(inner)
