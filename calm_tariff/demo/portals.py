"""The demo's two portals: one for everybody, and one for the pilots of the coast."""

from __future__ import annotations

from dataclasses import dataclass

from calm_tariff.core.portals import FIRST, OTHERS, Brand, Entrance, Page
from calm_tariff.demo.scenario import DemoConsumer

# The client that portals are to the issuer among the stand-ins.
CLIENT, CLIENT_SECRET = "larkmouth-portal", "larkmouth-demo-client"
PILOT_ROOM = f"{OTHERS}pilots"


@dataclass(frozen=True, slots=True, kw_only=True)
class DemoPortal:
    """A portal; `pictures` begins the names of its logo and icon. Without products it offers
    everything. People sign in `through` an outside provider, too, where one is named."""

    path: str
    brand: Brand
    entrance: Entrance = Entrance()
    products: tuple[str, ...] = ()
    groups: tuple[str, ...] = ()
    pages: tuple[Page, ...] = ()
    pictures: str
    through: str = ""


_BEGIN = """
1. **Choose a plan.** Each product's page says what it costs at your own use; Skiff is free.
2. **Sign up** with your organisation and register an application: the program that will call.
3. **Ask for the plan.** Sea Watch is open to everybody at once; the others are looked at by a person, usually within a
   working day.
4. **Make a key** on the application's page. It is shown once: keep it where your program finds it.
5. **Call.** Every answer says what is left of your limits, in its `RateLimit` fields.
"""

_SOURCES = """
Predictions are computed from the harmonic constants of six stations on the Larkmouth coast. Waves and wind come from
three buoys, which report every ten minutes. Berths are what the three harbour offices have on their boards.

All of it is made up, as the coast is.
"""

_WATCH = """
The duty officer answers on **channel 12** and at access@larkmouth.example, day and night.

Boarding times are computed anew after each survey of the bar; the last was on the first Monday of the month.
"""

PORTALS = (
    DemoPortal(
        path=FIRST,
        brand=Brand(
            name="Larkmouth Tide Office",
            welcome="Tides, berths, sea state and charts of the Larkmouth coast, for programs: **free to try**, and "
            "priced so that you can check it by hand.",
        ),
        pages=(
            Page(prefix="how-to-begin", title="How to begin", text=_BEGIN),
            Page(prefix="where-it-comes-from", title="Where the data comes from", text=_SOURCES),
        ),
        pictures="tide",
    ),
    DemoPortal(
        path=PILOT_ROOM,
        brand=Brand(
            name="The Pilot Room",
            welcome="Depth over the sill and boarding times at the outer bar, for pilots of the Larkmouth coast.",
            main_colour="#7B2D26",
            accent_colour="#F3D9B1",
            title_font="Bitter",
            text_font="Public Sans",
        ),
        entrance=Entrance(sign_up="mail domains", domains=("larkmouth-pilots.example", "tugs.example"), at_once=False),
        products=("Harbour Data",),
        groups=("Harbour pilots",),
        pages=(Page(prefix="the-watch", title="The watch", text=_WATCH),),
        pictures="pilots",
        through="Coast identity",
    ),
)

# Signed up at the pilots' portal, where a person lets new organisations in.
WAITING = DemoConsumer("Skarholm Tugs", "Edda Reboque", "edda@tugs.example", portal=PILOT_ROOM, waits=True)
