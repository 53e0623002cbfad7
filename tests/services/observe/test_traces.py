"""By what somebody is traced: what names them for certain, and what might name somebody else."""

from __future__ import annotations

from sqlalchemy import select

from calm_tariff.services.admit import applications, on_behalf, sign_up
from calm_tariff.services.admit.community import questions
from calm_tariff.services.admit.organisation import joining
from calm_tariff.services.admit.sign_up import SignUpTyped
from calm_tariff.services.observe import traces
from calm_tariff.store.admit.consumers import Consumer, Member
from tests.office import PASSWORD, Office
from tests.services.accounts import signed_in


def traced(office: Office, organisation: str = "Ferries") -> dict[str, bool]:
    with office.ctx.transaction() as session:
        consumer = session.scalars(select(Consumer).where(Consumer.name == organisation)).one()
        return {trace.text: trace.certain for trace in traces.of_consumer(session, consumer).traces}


def test_names_mail_addresses_and_titles_name_somebody_for_certain(office: Office) -> None:
    own = office.acting(office.consumers[0])
    questions.ask(own, "harbour-data", "Which datum do your heights have?", "Above what are they?")
    questions.ask(own, "harbour-data", "Which datum?", "Above what are they?")
    joining.invite(own, "rui@elsewhere.example", "developer")
    found = traced(office)
    assert found == {
        "Which datum do your heights have?": True,
        "rui@elsewhere.example": True,
        "ferries@consumer.example": True,
        "Ferries owner": True,
        "Which datum?": True,
        "Ferries app": False,  # a name that anybody may give
        "Ferries": True,
    }
    assert list(found) == sorted(found, key=lambda text: -len(text))  # a name may hold another


def test_what_others_are_called_as_well_names_nobody_for_certain(office: Office) -> None:
    ines = signed_in(office)
    on_behalf.make_member(ines, office.consumers[0].member.own_consumer, "Ana Vaz", "ana@ferries.example", "developer")
    on_behalf.make_member(ines, office.consumers[0].member.own_consumer, "Ana", "a@ferries.example", "developer")
    assert traced(office)["Ana Vaz"] is True and traced(office)["Ana"] is False
    on_behalf.make_member(ines, office.consumers[1].member.own_consumer, "Ana Vaz", "ana@kayaks.example", "developer")
    assert traced(office)["Ana Vaz"] is False
    sign_up.open_account(
        office.ctx, "h@data.example", SignUpTyped(name="Hu Day", organisation="Harbour Data", password=PASSWORD)
    )
    assert traced(office, "Harbour Data")["Harbour Data"] is False  # a product of ours


def test_addresses_of_others_are_left_alone(office: Office) -> None:
    own = office.acting(office.consumers[0])
    joining.invite(own, "kayaks@consumer.example", "developer")  # who signs in for another
    joining.invite(own, "product@test.example", "developer")  # one of the provider's people
    applications.register(own, "Board", "", contact="board@ferries.example")
    with office.ctx.transaction() as session:
        consumer = session.scalars(select(Consumer).where(Consumer.name == "Ferries")).one()
        found = traces.of_consumer(session, consumer)
        assert "ferries@consumer.example" in found.addresses
        assert not {"kayaks@consumer.example", "product@test.example"} & set(found.addresses)
        assert {t.text for t in found.traces if t.certain} >= {"board@ferries.example"}
        member = session.scalars(select(Member).where(Member.email == "kayaks@consumer.example")).one()
        assert {t.text for t in traces.of_member(session, member).traces} == {"Kayaks owner", "kayaks@consumer.example"}
