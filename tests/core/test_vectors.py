"""Every worked case of the shared arithmetic."""

import json
from pathlib import Path

import pytest

from calm_tariff.formats.cases import account_text, decide_text, late_text, rate_text

VECTORS = Path(__file__).parents[1] / "vectors"


def cases(name: str) -> list:
    return [pytest.param(c, id=f"{name}-{i}") for i, c in enumerate(json.loads((VECTORS / f"{name}.json").read_text()))]


@pytest.mark.parametrize("worked", cases("rating"))
def test_a_worked_charge(worked: dict) -> None:
    assert rate_text(json.dumps(worked["case"])) == worked["expect"]


@pytest.mark.parametrize("worked", cases("decisions"))
def test_a_worked_decision(worked: dict) -> None:
    answered = decide_text(json.dumps(worked["case"]))["verdicts"]
    for place, (got, wanted) in enumerate(zip(answered, worked["expect"]["verdicts"], strict=True)):
        assert got == wanted, f"call {place}"


@pytest.mark.parametrize("worked", cases("late"))
def test_worked_late_lines(worked: dict) -> None:
    assert late_text(json.dumps(worked["case"])) == worked["expect"]


@pytest.mark.parametrize("worked", cases("accounts"))
def test_a_worked_account(worked: dict) -> None:
    assert account_text(json.dumps(worked["case"])) == worked["expect"]
