"""Bad input gets one clear error that names the field; the commands start fast and exit with 2."""

import json
import subprocess
import sys
from pathlib import Path

import pytest

from calm_tariff.core.errors import Invalid
from calm_tariff.formats.cases import account_text, decide_text, late_text, rate_text
from calm_tariff.formats.journal import line, read_segment

VECTORS = Path(__file__).parents[1] / "vectors"
RATING = json.loads((VECTORS / "rating.json").read_text())[0]["case"]
LATE = next(
    c["case"] for c in json.loads((VECTORS / "late.json").read_text()) if c["case"]["case"]["segments"][0]["usage"]
)
ACCOUNT = {
    "currency": "EUR",
    "as_of": "2026-12-31",
    "reminders_after_days": [3, 10, 20],
    "pause_after_days": 30,
    "entries": [
        {"kind": "invoice", "id": "INV-2026-00001", "on": "2026-10-02", "due": "2026-10-16", "amount": "151.29"},
        {"kind": "payment", "on": "2026-10-20", "amount": "100.00", "for": "INV-2026-00001"},
        {"kind": "credit note", "on": "2026-10-21", "amount": "1.29", "for": "INV-2026-00001"},
        {"kind": "write-off", "on": "2026-12-30", "for": "INV-2026-00001"},
    ],
}
DECISION = next(
    c["case"]
    for c in json.loads((VECTORS / "decisions.json").read_text())
    if len(c["case"]["limits"]) > 1 and c["case"]["limits"][0]["kind"] == "rate"
)


def changed(case: dict, path: str, value: object) -> str:
    copy = json.loads(json.dumps(case))
    place = copy
    *keys, last = [int(k) if k.isdigit() else k for k in path.split(".")]
    for key in keys:
        place = place[key]
    if value is ...:
        del place[last]
    else:
        place[last] = value
    return json.dumps(copy)


@pytest.mark.parametrize(
    ("path", "value", "where"),
    [
        ("currency", "QQQ", "currency"),
        ("currency", ..., "currency"),
        ("time_zone", "Mars/Olympus", "time_zone"),
        ("period.end", "2026-02-01", "period.end"),
        ("tax_percent", True, "tax_percent"),
        ("tax_percent", "NaN", "tax_percent"),
        ("surprise", 1, "surprise"),
        ("segments.0.start", "2026-03-01T00:00:00", "segments[0].start"),
        ("segments.0.plan.prices.0.model", "bulk", "segments[0].plan.prices[0].model"),
        ("segments.0.plan.prices.0.tiers.0.up_to", "5", "segments[0].plan.prices[0].tiers[0].up_to"),
        ("segments.0.plan.prices.0.tiers", [], "segments[0].plan.prices[0].tiers"),
        ("segments.0.usage.mb", "-1", "segments[0].usage.mb"),
    ],
)
def test_a_malformed_rating_case_names_its_field(path: str, value: object, where: str) -> None:
    with pytest.raises(Invalid) as refused:
        rate_text(changed(RATING, path, value))
    assert refused.value.where == where
    with pytest.raises(Invalid) as refused:
        rate_text(f"[{json.dumps(RATING)}, {changed(RATING, path, value)}]")
    assert refused.value.where == f"[1].{where}"


@pytest.mark.parametrize(
    ("path", "value", "where"),
    [
        ("case.currency", "QQQ", "case.currency"),
        ("case.segments.0.usage.mb", "-1", "case.segments[0].usage.mb"),
        ("case.segments.0.plan.prices", ..., "case.segments[0].plan.prices"),
        ("charged", ..., "charged"),
        ("charged.0.of", "refund", "charged[0].of"),
        ("charged.0.kind", "tip", "charged[0].kind"),
        ("charged.0.amount", "1.2345678", "charged[0].amount"),
        ("charged.0.segment", -1, "charged[0].segment"),
        ("charged.1.sum", "1", "charged[1].sum"),
    ],
)
def test_a_malformed_case_of_late_usage_names_its_field(path: str, value: object, where: str) -> None:
    with pytest.raises(Invalid) as refused:
        late_text(changed(LATE, path, value))
    assert refused.value.where == where
    with pytest.raises(Invalid) as refused:
        late_text(f"[{json.dumps(LATE)}, {changed(LATE, path, value)}]")
    assert refused.value.where == f"[1].{where}"


@pytest.mark.parametrize(
    ("path", "value", "where"),
    [
        ("currency", "QQQ", "currency"),
        ("as_of", "yesterday", "as_of"),
        ("as_of", ..., "as_of"),
        ("reminders_after_days.0", 0, "reminders_after_days[0]"),
        ("pause_after_days", 0, "pause_after_days"),
        ("entries.1.kind", "tip", "entries[1].kind"),
        ("entries.1.for", "INV-2025-00001", "entries[1].for"),
        ("entries.1.for_", "INV-2026-00001", "entries[1].for_"),
        ("entries.1.amount", "-1", "entries[1].amount"),
        ("entries.1.amount", "1.505", "entries[1].amount"),
        ("entries.1.on", "2026-10-01", "entries[1].on"),
        ("entries.0.due", ..., "entries[0].due"),
        ("entries.2.for", ..., "entries[2].for"),
        ("entries.2.amount", "151.30", "entries[2].amount"),
    ],
)
def test_a_malformed_account_names_its_field(path: str, value: object, where: str) -> None:
    with pytest.raises(Invalid) as refused:
        account_text(changed(ACCOUNT, path, value))
    assert refused.value.where == where


@pytest.mark.parametrize(
    ("path", "value", "where"),
    [
        ("limits.0.kind", "speed", "limits[0].kind"),
        ("limits.0.burst", 1.5, "limits[0].burst"),
        ("limits.0.calls", 0, "limits[0].calls"),
        ("limits.1.name", "l0", "limits[1].name"),
        ("calls.2.at_us", "now", "calls[2].at_us"),
        ("calls.1.units", -1, "calls[1].units"),
        ("calls.0.operation", ..., "calls[0].operation"),
    ],
)
def test_a_malformed_decision_case_names_its_field(path: str, value: object, where: str) -> None:
    with pytest.raises(Invalid) as refused:
        decide_text(changed(DECISION, path, value))
    assert refused.value.where == where


@pytest.mark.parametrize("text", ["", "{", "[1,]", '{"a": NaN}', "[" * 100_000])
def test_what_is_not_json_is_said_to_be_none(text: str) -> None:
    with pytest.raises(Invalid, match="JSON"):
        rate_text(text)


def test_the_command_exits_with_2_and_prints_nothing_but_the_error(tmp_path: Path) -> None:
    file = tmp_path / "case.json"
    file.write_text(changed(RATING, "currency", "QQQ"))
    ran = subprocess.run(
        [sys.executable, "-m", "calm_tariff.cli", "rate", str(file)], capture_output=True, text=True, check=False
    )
    assert (ran.returncode, ran.stdout) == (2, "")
    assert "currency: 'QQQ' is not an ISO 4217 currency code" in ran.stderr
    file.write_text(json.dumps([DECISION, DECISION]))
    ran = subprocess.run(
        [sys.executable, "-m", "calm_tariff.cli", "decide", str(file)], capture_output=True, text=True, check=True
    )
    assert [set(answer) for answer in json.loads(ran.stdout)] == [{"verdicts"}, {"verdicts"}]


def test_a_torn_last_line_of_the_journal_is_no_record(tmp_path: Path) -> None:
    path = tmp_path / "000000000001.jsonl"
    path.write_bytes(line({"call_id": "A"}) + line({"call_id": "B"}) + b'{"call_id": "C", "at')
    segment = read_segment(path)
    assert [r["call_id"] for r in segment.records] == ["A", "B"]
    assert segment.damaged == 1
