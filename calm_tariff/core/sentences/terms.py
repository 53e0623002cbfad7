"""Terms as sentences.

A sentence is a run of parts. A part with a `field` is a word that can be changed; the field is a
path into the terms.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Literal

from calm_tariff.core.estimates import Shortfall
from calm_tariff.core.limits import COUNTED_PER, Limit, Pace, Quota, Rate, Window
from calm_tariff.core.prices import Blocks, Fee, Graduated, PerUnit, Price, Setup, Volume
from calm_tariff.core.rating import Pricing
from calm_tariff.core.terms import Trial

Input = Literal["text", "whole", "decimal", "choice", "pick", "header", "claim"]

_SYMBOLS = {"EUR": "€", "GBP": "£", "USD": "$", "JPY": "¥"}
_SPANS = ((1, "second"), (60, "minute"), (3600, "hour"), (86400, "day"))
_EVERY = tuple((word, word) for word in ("minute", "hour", "day", "week", "month"))
_PER = (*tuple((w, w) for w in ("key", "application", "consumer", "subscription", "address")), ("everyone", "everyone"))
# What a call carries is counted by its name, which is edited beside it; with the name it begins with.
_CARRIED = (("header:", "X-Station", "value of the header"), ("claim:", "sub", "value of the token's claim"))
# A value that calls carry counts for its consumer, or for all who send it.
_SHARED = (("false", "of a consumer"), ("true", "across consumers"))
_AFTER_TRIAL = (("charge", "the charges begin"), ("end", "it ends"))
_TAX = (("standard", "tax is added"), ("exempt", "exempt from tax"))
_SPENT = (("refuse", "refuse"), ("charge", "charge"), ("warn", "only warn"))


@dataclass(frozen=True, slots=True)
class Part:
    """Some words. With `field`, they show `value`, which can be changed; choices are (value, words).

    A `choice` may stand for a number or a truth, a `pick` is always text; a `header` or `claim` is a name,
    which the terms hold as `header:NAME` or `claim:NAME`.
    """

    text: str
    field: str = ""
    input: Input = "text"
    value: str = ""
    choices: tuple[tuple[str, str], ...] = ()


Sentence = tuple[Part, ...]


def words(sentence: Sequence[Part]) -> str:
    """The sentence as plain text."""
    return "".join(part.text for part in sentence)


def number(value: Decimal | int) -> str:
    """A figure with its thousands set apart."""
    return f"{value:,f}" if isinstance(value, Decimal) else f"{value:,}"


def money(amount: Decimal, currency: str) -> str:
    """An amount with its currency, with the digits it has."""
    sign = "−" if amount < 0 else ""
    figure = f"{abs(amount):,f}"
    return f"{sign}{_SYMBOLS[currency]}{figure}" if currency in _SYMBOLS else f"{sign}{figure} {currency}"


def limit_sentence(limit: Limit, path: str = "") -> Sentence:
    """A limit in words; `path` is where it stands in the terms."""
    at = f"{path}." if path else ""
    if isinstance(limit, Rate):
        noun = " call" if limit.calls == 1 else " calls"
        return (
            _whole(limit.calls, f"{at}calls"),
            Part(noun + _a(limit.per_seconds)),
            _span(limit.per_seconds, f"{at}per_seconds"),
            Part(", up to "),
            _whole(limit.burst, f"{at}burst"),
            Part(" at once, "),
            *_per(limit, at),
        )
    if isinstance(limit, Window):
        rolling = Part(
            "any" if limit.rolling else "each",
            f"{at}rolling",
            "choice",
            str(limit.rolling).lower(),
            (("true", "any"), ("false", "each")),
        )
        return (
            Part("at most "),
            _whole(limit.calls, f"{at}calls"),
            Part(" call in " if limit.calls == 1 else " calls in "),
            rolling,
            Part(" "),
            _span(limit.per_seconds, f"{at}per_seconds"),
            Part(", "),
            *_per(limit, at),
        )
    if isinstance(limit, Pace):
        wait = Part(f"{limit.max_wait_ms:,} ms", f"{at}max_wait_ms", "whole", str(limit.max_wait_ms))
        return (
            _whole(limit.calls, f"{at}calls"),
            Part(_a(limit.per_seconds)),
            _span(limit.per_seconds, f"{at}per_seconds"),
            Part(" evenly spaced, waiting up to "),
            wait,
            Part(", "),
            *_per(limit, at),
        )
    units = Part(number(limit.units), f"{at}units", "whole", str(limit.units))
    spent = dict(_SPENT)[limit.when_spent]
    start = (Part(" from the day of subscribing"),) if limit.aligned == "subscription" else ()
    return (
        units,
        Part(" a "),
        Part(limit.every, f"{at}every", "choice", limit.every, _EVERY),
        *start,
        Part(", then "),
        Part(spent, f"{at}when_spent", "choice", limit.when_spent, _SPENT),
        Part(", "),
        *_per(limit, at),
    )


def price_sentence(price: Price, currency: str, prorate: bool, path: str = "", pricing: str = "") -> Sentence:
    """A price in words. `pricing` is the path of the prices, for whether fees go by the day."""
    at = f"{path}." if path else ""
    if isinstance(price, Setup):
        return (_money(price.amount, f"{at}amount", currency), Part(" once, at the start"))
    if isinstance(price, Fee):
        daily = Part(
            "by the day" if prorate else "in full",
            f"{pricing}.prorate" if pricing else "prorate",
            "choice",
            str(prorate).lower(),
            (("true", "by the day"), ("false", "in full")),
        )
        return (_money(price.amount, f"{at}amount", currency), Part(" a month, "), daily)
    lead: Sentence = (
        Part(number(price.included), f"{at}included", "decimal", format(price.included, "f")),
        Part(" included, then "),
    )
    if isinstance(price, PerUnit):
        return (*lead, _money(price.unit, f"{at}unit", currency), Part(" each"))
    if isinstance(price, Blocks):
        block = Part(number(price.block), f"{at}block", "decimal", format(price.block, "f"))
        return (
            *lead,
            _money(price.amount, f"{at}amount", currency),
            Part(" for every "),
            block,
            Part(" begun"),
        )
    return (*lead, *_tiers(price, currency, at))


def _tiers(price: Graduated | Volume, currency: str, at: str) -> Sentence:
    parts: list[Part] = []
    if isinstance(price, Volume):
        parts.append(Part("for all of them "))
    for place, tier in enumerate(price.tiers):
        where = f"{at}tiers.{place}"
        if place:
            parts.append(Part("; "))
        parts += [_money(tier.unit, f"{where}.unit", currency), Part(" each")]
        if tier.flat:
            parts += [Part(" plus "), _money(tier.flat, f"{where}.flat", currency)]
        if tier.up_to is not None:
            up_to = Part(number(tier.up_to), f"{where}.up_to", "decimal", format(tier.up_to, "f"))
            parts += [Part(" to "), up_to]
        elif place:
            parts.append(Part(" after that"))
    return tuple(parts)


def override_sentence(limit: Limit, path: str, operations: Sequence[tuple[str, str]]) -> Sentence:
    """A limit of single operations in words; `operations` are those it could be for, as (id, label)."""
    known = dict(operations)
    parts: list[Part] = [Part("on ")]
    for place, operation in enumerate(limit.applies_to or ()):
        if place:
            parts.append(Part(" and "))
        label = known.get(operation, "an operation no longer sold")
        parts.append(Part(label, f"{path}.applies_to.{place}" if path else "", "pick", operation, tuple(operations)))
    return (*parts, Part(": "), *limit_sentence(limit, path))


def trial_sentence(trial: Trial, path: str, meters: Sequence[tuple[str, str]]) -> Sentence:
    """A trial in words; `meters` are those its units could be counted by, as (key, name)."""
    at = f"{path}." if path else ""
    parts: list[Part] = [_whole(trial.days, f"{at}days"), Part(" days free")]
    if trial.units is not None:
        names, key = dict(meters), trial.meter or ""
        parts += [
            Part(", or until "),
            Part(number(trial.units), f"{at}units", "decimal", format(trial.units, "f")),
            Part(" "),
            Part(names.get(key, key), f"{at}meter", "pick", key, tuple(meters)),
            Part(" are used"),
        ]
    then = Part(dict(_AFTER_TRIAL)[trial.then], f"{at}then", "choice", trial.then, _AFTER_TRIAL)
    return (*parts, Part(", then "), then)


def notice_sentence(days: int, path: str) -> Sentence:
    """The notice that an end takes, in words."""
    return (Part("ended with "), _whole(days, path), Part(" days' notice"))


def tax_sentence(tax: str, path: str) -> Sentence:
    """How a plan is taxed, in words."""
    return (Part(dict(_TAX)[tax], path, "choice", tax, _TAX),)


def note_sentence(text: str, path: str) -> Sentence:
    """A note as it was written."""
    return (Part(text, path, "text", text),)


def amount_sentence(amount: Decimal, currency: str, path: str) -> Sentence:
    """A monthly minimum or cap in words."""
    return (_money(amount, path, currency), Part(" a month"))


def percent_sentence(percent: Decimal, path: str) -> Sentence:
    """A discount in words."""
    return (Part(f"{percent:f}%", path, "decimal", format(percent, "f")), Part(" off fee and usage"))


def bound_in_words(name: str, amount: Decimal, currency: str) -> str:
    """A monthly minimum or cap where nothing names it."""
    return f"{'at least' if name == 'minimum' else 'at most'} {amount:f} {currency} a month"


def line_in_words(pricing: Pricing, line: str, meter: str | None, place: int, currency: str) -> str:
    """The rule a line of an invoice follows: the `place`th price of its kind (`line`) and meter, or what else
    made it."""
    prices = [p for p in pricing.prices if p.kind == line and (meter is None or getattr(p, "meter", "") == meter)]
    if prices:
        return words(price_sentence(prices[place], currency, pricing.prorate))
    if line == "discount":
        return words(percent_sentence(pricing.discount_percent, ""))
    bound = pricing.minimum if line == "minimum" else pricing.cap
    return bound_in_words(line, bound or Decimal(0), currency)


def expected_in_words(meter: str, units: Decimal) -> str:
    """So many units of a meter, as a request expects them of a month."""
    return f"{number(units)} {meter[:1].lower()}{meter[1:]} a month"


def shortfall_in_words(short: Shortfall, meters: Mapping[str, str]) -> str:
    """What a use runs against, for who chooses a plan. `meters` are names by key."""
    limit, wanted, let_in = short.limit, number(short.wanted), number(short.let_in)
    if isinstance(limit, Quota):
        units = meters.get(limit.meter or "", "calls").lower()
        by = "" if limit.every == "month" else f" ({number(limit.units)} a {limit.every}, used evenly)"
        return f"{let_in} of your {wanted} {units} a month{by}, then refused"
    if short.wait_us:
        return f"of {wanted} calls in one second the last may wait {number(Decimal(short.wait_us) / 1000)} ms"
    return f"of {wanted} calls in one second {number(short.wanted - short.let_in)} may be refused: " + words(
        limit_sentence(limit)
    )


def spent_in_words(quota: Quota, used: Decimal, meters: Mapping[str, str]) -> str:
    """An allowance of another plan that is used up already. `meters` are names by key."""
    units = meters.get(quota.meter or "", "calls").lower()
    return f"{number(used.normalize() + 0)} {units} are used of {number(quota.units)} a {quota.every}; more are refused"


def credential_in_words(kind: str, header: str, query: str = "") -> str:
    """How a caller proves who they are, by a kind of credential (core.meters.CREDENTIALS)."""
    if kind == "key":
        return f"an API key in the header {header}" + (f", or in the query parameter {query}" if query else "")
    return {
        "basic": "the application's client id and secret, by HTTP Basic",
        "client": "a token of the token endpoint (OAuth 2 client credentials), as Bearer",
        "token": "a signed token of a trusted issuer, as Bearer",
        "certificate": "a client certificate (mutual TLS)",
    }[kind]


def _money(amount: Decimal, field: str, currency: str) -> Part:
    return Part(money(amount, currency), field, "decimal", format(amount, "f"))


def _whole(value: int, field: str) -> Part:
    return Part(number(value), field, "whole", str(value))


def _span(seconds: int, field: str) -> Part:
    name = dict(_SPANS).get(seconds, f"{seconds:,} seconds")
    choices = tuple((str(value), word) for value, word in _SPANS)
    return Part(name, field, "choice", str(seconds), choices)


def _a(seconds: int) -> str:
    return " a " if seconds in dict(_SPANS) else " every "


def _per(limit: Limit, at: str) -> Sentence:
    per, field = limit.counted_per, f"{at}counted_per"
    lead = Part("for " if per == "everyone" else "for each ")
    choices = (*_PER, *((per if per.startswith(kind) else kind + name, text) for kind, name, text in _CARRIED))
    of = Part(dict(choices).get(per, per), field, "choice", per, choices)
    if per in COUNTED_PER:
        return (lead, of)
    kind, _, name = per.partition(":")
    named = (Part(" "), Part(name, field, "header" if kind == "header" else "claim", name)) if name else ()
    across = str(limit.across_consumers).lower()
    return (
        lead,
        of,
        *named,
        Part(" "),
        Part(dict(_SHARED)[across], f"{at}across_consumers", "choice", across, _SHARED),
    )
