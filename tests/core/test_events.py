"""Whatever is on the record has a type of event, and whoever listens hears of what it chose and of nothing else."""

from __future__ import annotations

import pytest

from calm_tariff.core.errors import Invalid
from calm_tariff.core.events import Thing, chosen, topic_of, type_of, types, wants


@pytest.mark.parametrize(
    ("kind", "action", "of_type"),
    [
        ("request", "asked for access", "request.made"),
        ("request", "asked back", "request.asked_back"),
        ("request", "granted a request", "request.granted"),
        ("request", "wrote a note about a request", "request.noted"),
        ("key", "made a passing key", "key.made"),
        ("key", "revoked a token", "key.token_revoked"),
        ("key", "revoked a key", "key.revoked"),
        ("plan", "published revision 3", "plan.published"),
        ("plan", "set a plan on sale", "plan.reopened"),
        ("plan", "withdrew a plan", "plan.withdrawn"),
        ("API", "set an API gone", "api.gone"),
        ("API", "set an API sunset", "api.state_set"),
        ("invoice", "issued an invoice", "invoice.issued"),
        ("provider", "changed the settings", "house.settings_changed"),
        ("service token", "was used from a new place", "service_token.new_place"),
        ("consumer", "invited ana@example.com as billing", "consumer.member_invited"),
        ("member", "did what nobody has thought of", "member.changed"),
        ("new thing", "did what nobody has thought of", "new_thing.changed"),
    ],
)
def test_what_is_on_the_record_has_a_type(kind: str, action: str, of_type: str) -> None:
    assert type_of(kind, action) == of_type


def test_the_type_of_anything_is_one_that_can_be_chosen_of_its_topic() -> None:
    for topic, of_topic in types().items():
        assert of_topic[-1] == f"{topic}.changed" and len(set(of_topic)) == len(of_topic)
        assert all(one.startswith(f"{topic}.") and len(one) <= 40 for one in of_topic)
    assert topic_of("limits") == "house_limits" and topic_of("charge run") == "charge_run"


def test_a_choice_is_kept_in_order_once_and_without_what_something_wider_holds() -> None:
    assert chosen(["key.revoked", "request.granted", "key.revoked"]) == ["request.granted", "key.revoked"]
    assert chosen(["key.revoked", "key.*", "invoice.issued"]) == ["key.*", "invoice.issued"]
    assert chosen(["key.*", "*"]) == ["*"]


@pytest.mark.parametrize(
    ("texts", "why"),
    [([], "choose at least one event"), (["key.eaten"], "'key.eaten' is no event"), (["*.made"], "is no event")],
)
def test_a_choice_of_nothing_or_of_what_there_is_not_is_refused_by_name(texts: list[str], why: str) -> None:
    with pytest.raises(Invalid, match=why.replace("*", r"\*")) as refused:
        chosen(texts)
    assert refused.value.where == "wants"


def test_a_listener_hears_of_what_it_chose() -> None:
    assert wants(["*"], "new_thing.changed") and wants(["key.*"], "key.made") and wants(["key.made"], "key.made")
    assert not wants(["key.*"], "keyhole.made") and not wants(["key.made"], "key.revoked") and not wants([], "key.made")


def test_a_thing_is_somebodys_or_nobodys() -> None:
    assert Thing(*("plan", 3, "Ketch")).consumer_id is None
