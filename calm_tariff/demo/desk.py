"""What lies on the demo's desk: how its products' requests are decided, and requests in every state of waiting."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta
from decimal import Decimal

from sqlalchemy import select

from calm_tariff.core.payment import Payment
from calm_tariff.core.routes import Agreement, Route, Rule
from calm_tariff.demo.owners import owner_of
from calm_tariff.services.admit import applications
from calm_tariff.services.admit.desk import asking, conversation, deciding, queue, reasons
from calm_tariff.services.base.context import Context
from calm_tariff.services.compose import products
from calm_tariff.services.house.people import PEOPLE
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.admit.requests import AccessRequest
from calm_tariff.store.compose.products import Plan, Product
from calm_tariff.store.house.people import Person

REASONS = (
    "The source is not named",
    "The purpose is not clear",
    "Another plan fits better",
    "The data would be passed on",
)
BERTH_BOARD = "The boards at our three quays show the next low water and the berths that are free, all day."
SURVEY_MAP = "The chart beneath the pictures of our survey flights, for the offices that ordered them."
MENU_BOARD = "Boards in our twelve cafes that show when the terrace is dry."


def lay_out_the_desk(ctx: Context, now: Context) -> None:
    """Say who decides on what, and have the requests asked, asked back, answered and half agreed to."""
    _decide_by_rules(ctx)
    yesterday, morning = _at(now, hours=26), _at(now, hours=5)
    reasons.save(person_of(ctx, "Rui"), REASONS)
    rui = person_of(yesterday, "Rui")
    sounding = _request(now, "Sounding log")
    queue.hand_over(rui, sounding, rui.actor.person_id)
    conversation.ask_back(rui, sounding, "Do you publish the corrected soundings, or are they for yourselves?")
    conversation.answer(
        owner_of(morning, "Fathom & Field"), sounding, "For ourselves: they go into our own survey, and name you there."
    )
    deciding.decide(rui, _request(now, "Claim map"), "granted", "For their own claims, and the source is named.")
    board = _ask(
        morning,
        ("Thornhithe Harbour", "Berth board", "Harbour Data · Schooner"),
        BERTH_BOARD,
        {"forecast_calls": Decimal(52000), "berth_lookups": Decimal(30000)},
    )
    conversation.say(person_of(morning, "Rui"), board, "Three quays: their first board has paid on time.", inside=True)
    _ask(morning, ("Ospreyview Drones", "Survey map", "Chart Tiles · Schooner"), SURVEY_MAP, {})
    menu = _ask(
        _at(now, hours=50),
        ("Ebb & Flow Cafes", "Menu board", "Harbour Data · Ketch"),
        MENU_BOARD,
        {"forecast_calls": Decimal(9000)},
    )
    conversation.ask_back(rui, menu, "Twelve boards that ask once an hour fit into Skiff. Would that do?")


def _decide_by_rules(ctx: Context) -> None:
    """Rules of the products: by plan, by volume, for the sandbox, and with finance above an amount."""
    with ctx.transaction() as session:
        plan = {f"{p.product.name} · {p.name}": p.id for p in session.scalars(select(Plan))}
        ids = {p.name: p.id for p in session.scalars(select(Product))}
    harbour = Route(
        otherwise="reviewed",
        rules=(
            Rule(step="open", environment="sandbox"),
            Rule(step="reviewed twice", plans=(plan["Harbour Data · Schooner"],)),
        ),
        agreements=(Agreement(role="finance", above=Decimal(150)),),
    )
    sea = Route(otherwise="open", rules=(Rule(step="reviewed", meter="sea_readings", above=Decimal(200000)),))
    tiles = Route(otherwise="reviewed twice", rules=(Rule(step="outside", plans=(plan["Chart Tiles · Schooner"],)),))
    for name, route in (("Harbour Data", harbour), ("Sea Watch", sea), ("Chart Tiles", tiles)):
        with ctx.transaction() as session:
            product = products.get(session, ids[name])
            typed, edition = products.typed_of(product), product.edition
        products.save(ctx, ids[name], edition, replace(typed, route=route))


def _ask(ctx: Context, of: tuple[str, str, str], purpose: str, expected: dict[str, Decimal]) -> int:
    """A consumer asks for a plan for an application of a name: the request's id."""
    consumer, name, offer = of
    owner = owner_of(ctx, consumer)
    with ctx.transaction() as session:
        plan = next(p.id for p in session.scalars(select(Plan)) if f"{p.product.name} · {p.name}" == offer)
    made = applications.register(owner, name, purpose)
    payment = Payment(method="transfer")
    return asking.ask(owner, made.id, plan, purpose, True, expected=expected, payment=payment).id


def _request(ctx: Context, application: str) -> int:
    with ctx.transaction() as session:
        query = select(AccessRequest.id).join(Application, Application.id == AccessRequest.application_id)
        return session.scalars(query.where(Application.name == application)).one()


def person_of(ctx: Context, name: str) -> Context:
    """The same surroundings with one of the provider's people acting."""
    with ctx.transaction() as session:
        return ctx.acting(PEOPLE.acting(session.scalars(select(Person).where(Person.name == name)).one()))


def _at(now: Context, hours: int) -> Context:
    moment = now.now - timedelta(hours=hours)
    return replace(now, clock=lambda: moment)
