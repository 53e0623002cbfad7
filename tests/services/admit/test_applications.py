"""Applications: what each is for, where it may call, and its tags, for their owner alone."""

from __future__ import annotations

import pytest

from calm_tariff.core.errors import Conflict, Invalid, NotFound
from calm_tariff.services.admit import applications, credentials
from calm_tariff.services.base import auditing, stamps
from calm_tariff.services.serve import gateway_feed
from calm_tariff.store.base.paging import PageQuery
from tests.office import Office


def test_an_application_says_what_it_is_for_and_whom_to_ask(office: Office) -> None:
    one, other = office.consumers
    own = office.acting(one)
    made = applications.register(own, " Skipper ", " Heights at the berth. ", "sandbox", "Ana@Ferries.example")
    assert (made.name, made.purpose, made.environment, made.contact) == (
        "Skipper",
        "Heights at the berth.",
        "sandbox",
        "ana@ferries.example",
    )
    before = stamps.number(office.ctx)
    changed = applications.change(own, made.id, "Skippers", "Heights.", "live", "")
    assert (changed.name, changed.purpose, changed.environment, changed.contact) == ("Skippers", "Heights.", "live", "")
    assert stamps.number(office.ctx) > before  # back ends that are told who calls hear the new name
    (entry,) = auditing.entries(office.manager, PageQuery("changed an application")).rows
    assert (entry.before["name"], entry.after["name"]) == ("Skipper", "Skippers")
    assert applications.change(own, made.id, "Skippers", "", "live", "").name == "Skippers"  # as it is called
    with pytest.raises(NotFound):
        applications.change(office.acting(other), made.id, "Mine", "", "live", "")
    for name, purpose, contact, kind, where in (
        ("Ferries app", "", "", Conflict, "name"),
        ("", "", "", Invalid, "name"),
        ("x", "y" * 2001, "", Invalid, "purpose"),
        ("x", "", "ana at ferries", Invalid, "contact"),
    ):
        with pytest.raises(kind) as refused:
            applications.change(own, made.id, name, purpose, "live", contact)
        assert refused.value.where == where


def test_one_for_the_sandbox_alone_has_no_live_keys(office: Office) -> None:
    one = office.consumers[0]
    own = office.acting(one)
    with pytest.raises(Conflict, match="live keys"):
        applications.change(own, one.application, "Ferries app", "", "sandbox", "")
    credentials.revoke_key(own, one.key)
    assert applications.change(own, one.application, "Ferries app", "", "sandbox", "").environment == "sandbox"
    for kind in ("key", "secret"):
        with pytest.raises(Invalid, match="for the sandbox alone") as refused:
            credentials.make_key(own, one.application, "x", "live", kind)
        assert refused.value.where == "environment"
        assert credentials.make_key(own, one.application, "x", "sandbox", kind).key.environment == "sandbox"


def test_tags_are_few_plain_words(office: Office) -> None:
    one = office.consumers[0]
    own = office.acting(one)
    kept = applications.set_tags(own, one.application, {"region": "west", "line-2": "Grüße, Kapitän"})
    assert kept.tags == {"region": "west", "line-2": "Grüße, Kapitän"}
    (caller,) = [c for c in gateway_feed.read_feed(office.ctx).callers if c.application_id == one.application]
    assert caller.tags == (("line-2", "Grüße, Kapitän"), ("region", "west"))
    for wrong in (
        {"Region": "x"},
        {"1st": "x"},
        {"a" * 31: "x"},
        {"a": "x\r\ny"},
        {"a": "x" * 101},
        {f"t{n}": "x" for n in range(11)},
    ):
        with pytest.raises(Invalid, match="tags"):
            applications.set_tags(own, one.application, wrong)
    assert applications.own(own)[0].tags == kept.tags
