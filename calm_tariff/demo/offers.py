"""What Larkmouth Tide Office sells: its APIs, meters, products and plans, and the limits above them."""

from __future__ import annotations

from typing import Any

from calm_tariff.demo.scenario import DemoApi, DemoMeter, DemoPlan, DemoProduct

Terms = dict[str, Any]

APIS = (
    DemoApi(
        name="Tides",
        version="v1",
        document="tides-v1",
        base_path="/tides/v1",
        back_end="{standins}/tides",
        health_path="/stations",
        capacity=60,
        sunset_after_days=200,
    ),
    DemoApi(
        name="Tides",
        version="v2",
        document="tides-v2",
        base_path="/tides/v2",
        back_end="{standins}/tides",
        health_path="/stations",
        capacity=120,
        sandbox=True,
    ),
    DemoApi(
        name="Berths",
        version="v1",
        document="berths-v1",
        base_path="/berths/v1",
        back_end="{standins}/berths",
        health_path="/harbours",
        capacity=30,
    ),
    DemoApi(
        name="Sea State",
        version="v1",
        document="sea-state-v1",
        base_path="/sea/v1",
        back_end="{standins}/sea",
        health_path="/buoys",
        capacity=80,
        sandbox=True,
    ),
    DemoApi(
        name="Chart Tiles",
        version="v1",
        document="chart-tiles-v1",
        base_path="/tiles/v1",
        back_end="{standins}/tiles",
        health_path="/sheets",
        capacity=200,
    ),
)

_STATION = ("Tides v1 GET /stations/{id}", "Tides v2 GET /stations/{id}")
_HEIGHTS = "Tides v1 GET /stations/{id}/tides", "Tides v2 GET /stations/{id}/heights"
_EXTREMES = "Tides v2 GET /stations/{id}/extremes"
_FREE = "Berths v1 GET /harbours/{harbour}/berths"
_HOLD = "Berths v1 POST /harbours/{harbour}/berths/{berth}:hold"
_SEA = tuple(f"Sea State v1 GET /buoys/{{buoy}}/{what}" for what in ("latest", "waves", "wind"))
_AREAS = "Sea State v1 GET /areas/{area}:summarise"
_TILE = "Chart Tiles v1 GET /{sheet}/{z}/{x}/{y}.png"

METERS = (
    DemoMeter("Forecast calls", (*_STATION, *_HEIGHTS, _EXTREMES)),
    DemoMeter("Berth lookups", (_FREE, _HOLD)),
    DemoMeter("Sea readings", _SEA),
    DemoMeter("Area cells", (_AREAS,), "reported", "X-Cells"),
    DemoMeter("Tile megabytes", (_TILE,), "bytes_out"),
)


def _rate(calls: int, burst: int, per: str = "key") -> Terms:
    return {"kind": "rate", "name": "Rate", "counted_per": per, "calls": calls, "per_seconds": 1, "burst": burst}


def _pace(calls: int, wait: int, per: str = "subscription") -> Terms:
    return {
        "kind": "pace",
        "name": "Pace",
        "counted_per": per,
        "calls": calls,
        "per_seconds": 1,
        "max_wait_ms": wait,
    }


def _quota(name: str, units: int, spent: str, every: str = "month") -> Terms:
    return {
        "kind": "quota",
        "name": name,
        "counted_per": "subscription",
        "units": units,
        "every": every,
        "aligned": "calendar",
        "when_spent": spent,
        "meter": name.lower().replace(" ", "_"),
    }


def _fee(amount: str, kind: str = "fee") -> Terms:
    return {"kind": kind, "amount": amount}


def _usage(name: str, included: str, model: str = "per_unit", **price: Any) -> Terms:
    return {
        "kind": "usage",
        "meter": name.lower().replace(" ", "_"),
        "model": model,
        "included": included,
        **price,
    }


def _steps(*steps: tuple[str | None, str]) -> list[Terms]:
    return [{"up_to": up_to, "unit": unit} for up_to, unit in steps]


def _ketch(burst: int, last: str) -> Terms:
    return {
        "limits": [
            _rate(10, burst),
            _quota("Forecast calls", 20000, "charge"),
            _quota("Berth lookups", 5000, "charge"),
        ],
        "pricing": {
            "prices": [
                _fee("40"),
                _usage("Forecast calls", "2000", "graduated", tiers=_steps(("3000", "0.0040"), (None, last))),
                _usage("Berth lookups", "500", unit="0.006"),
            ],
        },
    }


HARBOUR_DATA = DemoProduct(
    name="Harbour Data",
    description="Tide predictions for six stations and free berths in three harbours, computed on demand. "
    "Access is reviewed, usually within a working day.",
    terms_of_use="The data may be shown and built upon with the source named. It is not for navigation.",
    access="reviewed",
    calls={
        "Tides v1 GET /stations": 2,
        "Tides v1 GET /stations/{id}": 6,
        "Tides v1 GET /stations/{id}/tides": 46,
        "Tides v2 GET /stations": 1,
        "Tides v2 GET /stations/{id}": 3,
        "Tides v2 GET /stations/{id}/heights": 22,
        "Tides v2 GET /stations/{id}/extremes": 11,
        "Berths v1 GET /harbours": 1,
        "Berths v1 GET /harbours/{harbour}": 1,
        _FREE: 6,
        _HOLD: 1,
    },
    plans=(
        DemoPlan(
            "Skiff",
            {
                "limits": [
                    _rate(2, 5),
                    _quota("Forecast calls", 1000, "refuse"),
                    _quota("Berth lookups", 100, "refuse"),
                ],
                "pricing": {"prices": []},
            },
        ),
        DemoPlan("Ketch", _ketch(20, "0.0032"), later=((66, _ketch(20, "0.0030")),), draft=_ketch(40, "0.0028")),
        DemoPlan(
            "Schooner",
            {
                "limits": [
                    _rate(25, 60),
                    _pace(20, 300),
                    _quota("Forecast calls", 200000, "charge"),
                    _quota("Berth lookups", 20000, "charge"),
                ],
                "pricing": {
                    "prices": [
                        _fee("60", "setup"),
                        _fee("150"),
                        _usage(
                            "Forecast calls", "40000", "graduated", tiers=_steps(("60000", "0.0022"), (None, "0.0018"))
                        ),
                        _usage("Berth lookups", "5000", unit="0.004"),
                    ],
                },
            },
        ),
        DemoPlan(
            "Pilot boat",
            {
                "limits": [_rate(20, 40), _quota("Forecast calls", 50000, "warn")],
                "pricing": {"prices": [_fee("20")], "tax": "exempt"},
                "notes": "Agreed with the pilots' association until the end of 2027.",
            },
            group="Harbour pilots",
        ),
    ),
    newer_terms="The data may be shown and built upon with the source named. It is not for navigation.\n\n"
    "Whoever passes predictions on to others names the station and the time of the prediction, too.",
)

SEA_WATCH = DemoProduct(
    name="Sea Watch",
    description="Waves and wind from three buoys, summaries of whole areas, and the tide beside them. "
    "Open to everybody.",
    terms_of_use="Measurements may be published with their time and the source. They are not for navigation.",
    access="open",
    calls={
        "Sea State v1 GET /buoys": 2,
        _SEA[0]: 40,
        _SEA[1]: 22,
        _SEA[2]: 16,
        _AREAS: 5,
        "Tides v2 GET /stations/{id}/heights": 9,
        _EXTREMES: 6,
    },
    plans=(
        DemoPlan(
            "Skiff",
            {
                "limits": [_rate(2, 5), _quota("Sea readings", 100, "refuse", "day")],
                "trial": {"days": 30, "units": "5000", "meter": "sea_readings", "then": "end"},
                "pricing": {"prices": []},
            },
        ),
        DemoPlan(
            "Ketch",
            {
                "limits": [_rate(10, 20), _quota("Sea readings", 20000, "charge")],
                "overrides": [{**_rate(1, 2), "name": "Areas", "counted_per": "subscription", "applies_to": [_AREAS]}],
                "trial": {"days": 14, "then": "charge"},
                "pricing": {
                    "prices": [
                        _fee("25"),
                        _usage("Sea readings", "3000", "blocks", block="1000", amount="2.50"),
                        _usage("Area cells", "0", unit="0.002"),
                        _usage("Forecast calls", "1000", unit="0.004"),
                    ],
                    "minimum": "30",
                },
            },
        ),
        DemoPlan(
            "Schooner",
            {
                "limits": [_rate(25, 50), _pace(15, 250), _quota("Sea readings", 150000, "charge")],
                "pricing": {
                    "prices": [
                        _fee("95"),
                        _usage(
                            "Sea readings", "10000", "graduated", tiers=_steps(("20000", "0.0018"), (None, "0.0012"))
                        ),
                        _usage("Area cells", "2000", unit="0.0015"),
                        _usage("Forecast calls", "5000", unit="0.003"),
                    ],
                    "cap": "250",
                },
            },
        ),
    ),
)


# No plan of the chart lets anybody copy all of it in a day.
FAIR_USE: Terms = {
    "kind": "window",
    "name": "Fair use",
    "counted_per": "subscription",
    "calls": 50_000,
    "per_seconds": 86_400,
    "rolling": False,
}


def _tiles(model: str) -> Terms:
    return {
        "limits": [_rate(20, 60), FAIR_USE, _quota("Tile megabytes", 400, "charge")],
        "pricing": {
            "prices": [
                _fee("15"),
                _usage("Tile megabytes", "50", model, tiers=_steps(("200", "0.080"), (None, "0.060"))),
            ],
        },
    }


CHART_TILES = DemoProduct(
    name="Chart Tiles",
    description="The chart of the coast as images, priced by the megabyte. Two people decide on each request.",
    terms_of_use="The chart may be shown on screens with the source named; it may not be printed or sold on.",
    access="reviewed twice",
    calls={"Chart Tiles v1 GET /sheets": 2, _TILE: 98},
    plans=(
        DemoPlan("Ketch", _tiles("graduated"), draft=_tiles("volume")),
        DemoPlan(
            "Schooner",
            {
                "limits": [_rate(60, 200), FAIR_USE, _quota("Tile megabytes", 5000, "charge")],
                "pricing": {
                    "prices": [_fee("45"), _usage("Tile megabytes", "500", "per_unit", unit="0.045")],
                    "discount_percent": "5",
                },
            },
        ),
    ),
)

PRODUCTS = (HARBOUR_DATA, SEA_WATCH, CHART_TILES)

# By API, and for every API where the name is empty.
HOUSE_LIMITS: dict[str, list[Terms]] = {
    "": [_rate(100, 200, "consumer")],
    "Berths v1": [_pace(10, 400, "consumer")],
}
