"""What the caller is told: rate-limit fields (IETF httpapi draft, structured fields) and problem details
(RFC 9457)."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from decimal import Decimal
from email.utils import format_datetime
from typing import Any
from urllib.parse import quote

import orjson

from calm_tariff.core.limiter import Check, Decision
from calm_tariff.core.limits import Limit, Pace, Quota, Rate, TrialQuota, Units
from calm_tariff.core.periods import SECOND, moment_of
from calm_tariff.core.sentences import limit_sentence, number, words

Headers = list[tuple[bytes, bytes]]
_SPANS = {"minute": 60, "hour": 3600, "day": 86400, "week": 604800, "month": 2592000}


@dataclass(frozen=True, slots=True)
class Policies:
    """The policy field of the limits that apply to an operation, and each limit's name in it.

    Pacing has nothing left to speak of, and is left out.
    """

    field: bytes
    names: dict[str, str]

    @classmethod
    def of(cls, limits: Sequence[Limit]) -> Policies:
        """The policies of limits in the order they are tested."""
        spoken = [limit for limit in limits if not isinstance(limit, Pace)]
        names = {limit.name: _quoted(limit.name) for limit in spoken}
        items = [f"{names[limit.name]};q={_whole(allowed(limit))}{_window(limit)}" for limit in spoken]
        return cls(", ".join(items).encode(), names)


def rate_limit_fields(policies: Policies, decision: Decision, now_us: int) -> Headers:
    """`RateLimit-Policy` and `RateLimit` for a decision; nothing where no limit applies."""
    if not policies.field:
        return []
    items = [
        f"{policies.names[c.limit.name]};r={_whole(c.left)}{_until_more(c, now_us)}"
        for c in decision.checks
        if c.left is not None
    ]
    return [(b"ratelimit-policy", policies.field), (b"ratelimit", ", ".join(items).encode())]


def older_fields(decision: Decision, now_us: int) -> Headers:
    """`X-RateLimit-*` for clients that know only those: of the limit with the smallest share left, with the
    whole seconds until it gives more."""
    tightest: Check | None = None
    share = Decimal(2)
    for check in decision.checks:
        if check.left is not None:
            left = Decimal(0) if check.refused else Decimal(check.left) / allowed(check.limit)
            if left < share:
                tightest, share = check, left
    if tightest is None:
        return []
    return [
        (b"x-ratelimit-limit", str(_whole(allowed(tightest.limit))).encode()),
        (b"x-ratelimit-remaining", str(_whole(tightest.left)).encode()),
        (b"x-ratelimit-reset", str(_seconds_until_more(tightest, now_us)).encode()),
    ]


def ending(deprecated_us: int | None, sunset_us: int | None) -> Headers:
    """The fields of a version that will end: `Deprecation` (RFC 9745) and `Sunset` (RFC 8594)."""
    fields: Headers = []
    if deprecated_us is not None:
        fields.append((b"deprecation", f"@{deprecated_us // SECOND}".encode()))
    if sunset_us is not None:
        fields.append((b"sunset", format_datetime(moment_of(sunset_us), usegmt=True).encode()))
    return fields


def problem(status: int, title: str, detail: str, **more: Any) -> tuple[bytes, Headers]:
    """A problem-details body and its content type. `code` in `more` names the problem for programs."""
    body = {"type": "about:blank", "title": title, "status": status, "detail": detail, **more}
    return orjson.dumps(body), [(b"content-type", b"application/problem+json")]


def refusal(decision: Decision, now_us: int) -> tuple[bytes, Headers]:
    """The body and fields of a 429: which limit, whose count, used, allowed, and when it frees."""
    check = next(c for c in decision.checks if c.refused)
    limit = check.limit
    after = decision.retry_after_us
    allowed = limit.units if isinstance(limit, Quota) else limit.burst if isinstance(limit, Rate) else limit.calls
    used = check.state[1] if isinstance(limit, Quota) and check.state else allowed - (check.left or 0)
    sentence = words(limit_sentence(limit))
    frees = None if after is None else moment_of(now_us + after).isoformat()
    kind, _, name = limit.counted_per.partition(":")
    carried = {"header": f"this value of {name}", "claim": f"this {name} of the token"}.get(kind, f"this {kind}")
    whose = "everyone together" if kind == "everyone" else carried
    when = "It does not free for a call of this cost." if after is None else f"It frees in {_span(after)}."
    body, headers = problem(
        429,
        "A limit of the plan is reached",
        f"{limit.name}: {sentence}. Counted for {whose}: {number(used)} of {number(allowed)} used. {when}",
        code="limit-reached",
        limit=limit.name,
        rule=sentence,
        counted_per=limit.counted_per,
        used=str(used),
        allowed=str(allowed),
        frees_at=frees,
    )
    if after is not None:
        headers.append((b"retry-after", str(-(-after // SECOND)).encode()))
    return body, headers


def _until_more(check: Check, now_us: int) -> str:
    """When there is more, as a parameter; a trial's units do not come back."""
    return "" if isinstance(check.limit, TrialQuota) else f";t={_seconds_until_more(check, now_us)}"


def _seconds_until_more(check: Check, now_us: int) -> int:
    """Whole seconds until the limit gives more than is left now."""
    limit, state = check.limit, check.state
    if check.ends_us is not None:
        return max(0, -(-(check.ends_us - now_us) // SECOND))
    if state is None or isinstance(limit, Quota):
        return 0
    if isinstance(limit, Rate):
        period = limit.per_seconds * SECOND
        ahead = int(state) - now_us * limit.calls
        missing = limit.burst - int(check.left or 0) - 1
        return max(0, -(-(ahead - missing * period) // (limit.calls * SECOND))) if missing >= 0 else 0
    if isinstance(state, tuple):
        period = limit.per_seconds * SECOND
        return -(-((now_us // period + 1) * period - now_us) // SECOND)
    return max(0, -(-(int(state[0]) + limit.per_seconds * SECOND - now_us) // SECOND)) if state else 0


def allowed(limit: Limit) -> Units:
    """What a limit lets through at most: units of a quota, calls of a window, the burst of a rate."""
    if isinstance(limit, Quota):
        return limit.units
    return limit.burst if isinstance(limit, Rate) else limit.calls


def _window(limit: Limit) -> str:
    if isinstance(limit, TrialQuota):
        return ""
    if isinstance(limit, Quota):
        return f";w={_SPANS[limit.every]}"
    if isinstance(limit, Rate):
        return f";w={-(-limit.burst * limit.per_seconds // limit.calls)}"
    return f";w={limit.per_seconds}"


def _quoted(name: str) -> str:
    """A limit's name as a structured-field string: printable ASCII, lower case."""
    plain = "".join(c if " " <= c <= "~" and c not in '"\\' else "-" for c in name.lower())
    return f'"{plain}"'


def _whole(left: Any) -> int:
    return int(left)


def _span(microseconds: int) -> str:
    if microseconds < SECOND:
        return f"{-(-microseconds // 1000)} ms"
    seconds = -(-microseconds // SECOND)
    if seconds < 120:
        return f"{seconds} s"
    return f"{-(-seconds // 60)} minutes" if seconds < 7200 else f"{-(-seconds // 3600)} hours"


def plain_text(value: str) -> bytes:
    """A value for a field: as it is where it is printable ASCII, otherwise percent-encoded UTF-8."""
    if value.isascii() and value.isprintable():
        return value.encode()
    return quote(value, safe=" /,;:&'()").encode()


def dictionary(pairs: Iterable[tuple[str, str]]) -> bytes:
    """A structured-field dictionary (RFC 9651) of strings; keys are made lower case, odd letters `-`."""
    items = []
    for key, value in pairs:
        name = re.sub(r"[^a-z0-9_.*-]", "-", key.lower())
        name = name if name[:1].isalpha() else f"t-{name}"
        text = plain_text(value).decode().replace("\\", "\\\\").replace('"', '\\"')
        items.append(f'{name}="{text}"')
    return ", ".join(items).encode()


def read_problem(body: bytes) -> dict[str, Any]:
    """A problem-details body that was made here, as an object."""
    read: dict[str, Any] = orjson.loads(body)
    return read
