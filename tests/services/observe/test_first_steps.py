"""A new installation is led to its first served call, and then no more."""

from __future__ import annotations

from calm_tariff.core.portals import Brand
from calm_tariff.services.admit.portals import portals
from calm_tariff.services.base.context import Actor, Context, provider_of
from calm_tariff.services.compose.apis import versions
from calm_tariff.services.compose.apis.operations import OperationTyped
from calm_tariff.services.compose.apis.versions import ApiTyped
from calm_tariff.services.house import installation, settings
from calm_tariff.services.house.settings import of
from calm_tariff.services.observe import today
from calm_tariff.services.serve import history
from tests.office import Office
from tests.services.house.test_installation import TYPED


def steps(ctx: Context) -> list[tuple[str, bool, bool]]:
    return [(s.link.rsplit("/", 1)[-1] or "portal", s.done, s.next) for s in today.today(ctx).first_steps]


def test_what_is_done_is_told_and_what_is_next(ctx: Context) -> None:
    installation.install(ctx, TYPED)
    portals.begin(ctx, Brand(name=TYPED.name))
    here = ctx.acting(Actor("Kei", frozenset({"owner", "product manager"}), person_id=None))
    names = ["settings", "new", "new", "products", "portal", "traffic"]
    assert steps(here) == [(name, False, at == 0) for at, name in enumerate(names)]
    with ctx.transaction() as session:
        kept = of(provider_of(session))
    settings.change(here, kept, 1)  # looked through, and left as they are
    assert [s[1:] for s in steps(here)][:2] == [(True, False), (False, True)]
    versions.create(
        here,
        ApiTyped(
            name="Tides",
            version="v1",
            description="",
            base_path="/tides/v1",
            back_end_url="http://tides.example",
            capacity_per_second=None,
            operations=[OperationTyped("GET", "/stations")],
        ),
    )
    assert [s[1:] for s in steps(here)][:3] == [(True, False), (True, False), (False, True)]


def test_who_has_plans_and_keys_is_led_to_the_first_call_until_it_is_served(office: Office) -> None:
    ferries = office.consumers[0]
    assert [(done, following) for _, done, following in steps(office.manager)] == [
        (False, True),
        *[(True, False)] * 4,
        (False, False),
    ]
    history.take_in(office.ctx, [{**office.call(ferries, office.ctx.now, 0), "verdict": "refused", "status": 429}])
    assert len(steps(office.manager)) == 6  # a call that was refused is none
    history.take_in(office.ctx, [office.call(ferries, office.ctx.now, 1)])
    assert steps(office.manager) == []
