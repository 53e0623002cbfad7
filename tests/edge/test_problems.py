"""What is wrong with what was sent is told field by field."""

from __future__ import annotations

import pytest
from fastapi import FastAPI
from pydantic import BaseModel, Field
from starlette.testclient import TestClient

from calm_tariff.core.errors import Invalid
from calm_tariff.edge.problems import tell


class Step(BaseModel):
    """A part of what is sent."""

    up_to: int = Field(ge=1)


class Sent(BaseModel):
    """What is sent."""

    name: str
    steps: list[Step]


def client() -> TestClient:
    app = FastAPI()
    tell(app)

    @app.post("/")
    def take(sent: Sent) -> str:
        if sent.name == "taken":
            raise Invalid("another has it already", where="name")
        return sent.name

    return TestClient(app)


def test_every_field_that_is_wrong_is_named_with_what_is_wrong_the_first_for_itself() -> None:
    answer = client().post("/", json={"name": 7, "steps": [{"up_to": 3}, {"up_to": 0}]})
    assert answer.status_code == 422
    told = answer.json()
    assert [one["where"] for one in told["refused"]] == ["name", "steps.1.up_to"]
    assert told["refused"][0] == {"where": told["where"], "what": told["detail"]}
    assert "greater than or equal to 1" in told["refused"][1]["what"]


A_WHOLE = "the body must be a JSON object, sent as application/json"


@pytest.mark.parametrize(
    ("body", "type_sent", "where", "what"),
    [
        (b'{"name": }', "application/json", "", "the body is not JSON: Expecting value, at character 10"),
        (b"[]", "application/json", "", A_WHOLE),
        (
            b"name=x",
            "application/x-www-form-urlencoded",
            "",
            "the body must be a JSON object, sent as application/json",
        ),
        (b"", "", "", A_WHOLE),
        (b'{"name": "x", "steps": [3]}', "application/json", "steps.0", "must be a JSON object"),
    ],
    ids=["no JSON", "a list", "a form", "nothing", "a number in it"],
)
def test_a_body_of_another_kind_is_told_what_it_must_be(body: bytes, type_sent: str, where: str, what: str) -> None:
    told = client().post("/", content=body, headers={"content-type": type_sent}).json()
    assert (told["where"], told["detail"]) == (where, what)


def test_of_very_many_wrong_fields_some_are_told() -> None:
    told = client().post("/", json={"name": "x", "steps": [{"up_to": 0}] * 5_000}).json()
    assert len(told["refused"]) == 50


def test_a_rule_that_refuses_names_its_field_alone() -> None:
    told = client().post("/", json={"name": "taken", "steps": []}).json()
    assert (told["where"], told["detail"]) == ("name", "another has it already")
    assert "refused" not in told


def test_what_echoes_half_of_a_character_can_still_be_told() -> None:
    body = b'{"name": "x", "steps": [{"up_to": "\\ud800"}]}'
    answer = client().post("/", content=body, headers={"content-type": "application/json"})
    assert answer.status_code == 422 and answer.json()["refused"][0]["where"] == "steps.0.up_to"
