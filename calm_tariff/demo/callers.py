"""Who calls Larkmouth's APIs: twenty-four made-up organisations with their applications."""

from __future__ import annotations

from decimal import Decimal

from calm_tariff.demo.portals import PILOT_ROOM
from calm_tariff.demo.scenario import DemoApplication as App
from calm_tariff.demo.scenario import DemoConsumer as Consumer
from calm_tariff.demo.scenario import Traffic

PILOTS = "Harbour pilots"

CONSUMERS = (
    Consumer("Gannet Ferries", "Leonor Brisa", "leonor@gannet.example", (
        App("Timetable", "Harbour Data · Ketch", "Sailing times that follow the tide at each pier.",
            Traffic(270, 0.8), keys=2),
        App("Skipper app", "Harbour Data · Ketch", "Heights at the berth for our skippers on the water.",
            Traffic(75, 1.3), 4),
    )),
    Consumer("Driftline Apps", "Marta Vale", "marta@driftline.example", (
        App("Beach Clock", "Harbour Data · Ketch", "A phone app that shows when the beach is wide.",
            Traffic(220, 1.6), 21),
    )),
    Consumer("Saltmarsh Kayak Club", "Henrique Sal", "henrique@saltmarsh.example", (
        App("Club board", "Harbour Data · Skiff", "A board in the club house with the next slack water.",
            Traffic(49, 1.9, (7, 20))),
    )),
    Consumer("Pelorus Cover", "Aurora Lemos", "aurora@pelorus.example", (
        App("Claims desk", "Harbour Data · Ketch", "Water levels at the time of a claim.",
            Traffic(46, 0.1, (9, 18)), 1),
    )),
    Consumer("Quayside Freight", "Vasco Amarra", "vasco@quayside.example", (
        App("Lock planner", "Harbour Data · Ketch", "Which barge fits through the lock at which height.",
            Traffic(80, 0.4, (5, 19), 46, (0, 2, 4)), 2),
    ), order_number="QF-2214"),
    Consumer("Fathom & Field", "Ilda Moura", "ilda@fathom.example", (
        App("Shore walks", "Harbour Data · Skiff", "Guided walks that start at low water.",
            Traffic(9, 2.2, (8, 18)), 9),
        App("Resale feed", "Harbour Data · Ketch", "Pass the predictions on to partners under our name.",
            from_day=70, outcome="declined",
            note="The terms of use ask that the source is named. Ask again with a plan that does."),
        App("Sounding log", "Harbour Data · Ketch",
            "Correct soundings of our survey boat for the tide, about 4,000 calls a month in spring.",
            from_day=98, outcome="waiting", expected=(("forecast_calls", Decimal(4000)),)),
    )),
    Consumer("Larkmouth Pilots", "Bento Farol", "bento@larkmouth-pilots.example", (
        App("Boarding times", "Harbour Data · Pilot boat", "When a pilot can board at the outer bar.",
            Traffic(140, 0.9, (0, 24)), 6),
    ), PILOTS, PILOT_ROOM),
    Consumer("Saltgrave Pilots", "Noemi Doca", "noemi@saltgrave-pilots.example", (
        App("Pilot slate", "Harbour Data · Pilot boat", "Depth over the sill for the duty pilot.",
            Traffic(85, 0.9, (0, 24)), 8),
    ), PILOTS, PILOT_ROOM),
    Consumer("Thornhithe Harbour", "Rosa Molhe", "rosa@thornhithe.example", (
        App("Harbour office", "Harbour Data · Schooner", "Tide and berths on the wall of the harbour office.",
            Traffic(210, 0.9, (4, 23)), 3, keys=3),
    )),
    Consumer("Cormorant Charters", "Jaime Vela", "jaime@cormorant.example", (
        App("Booking desk", "Harbour Data · Ketch", "Only offer trips that come back before low water.",
            Traffic(58, 1.7, (8, 20)), 11),
    )),
    Consumer("Pontoon Parcel", "Lia Remo", "lia@pontoon.example", (
        App("Route planner", "Harbour Data · Ketch", "Which quay to deliver to, and at which hour.",
            Traffic(92, 0.2, (5, 18)), 12),
    )),
    Consumer("Anchorhold Storage", "Otto Cais", "otto@anchorhold.example", (
        App("Winter store", "Harbour Data · Ketch", "Lift boats out when the slip has water.",
            Traffic(38, 0.3, (7, 17)), 30),
    )),
    Consumer("Breakwater Builders", "Carla Pedra", "carla@breakwater.example", (
        App("Site diary", "Harbour Data · Ketch", "Working hours on the foreshore, one look each morning.",
            Traffic(3, 0.1, (6, 9)), 15),
    )),
    Consumer("Ebb & Flow Cafes", "Duarte Mar", "duarte@ebbflow.example", (
        App("Terrace sign", "Harbour Data · Skiff", "A sign with the next high water for our terraces.",
            Traffic(31, 1.4, (8, 23)), 18),
    )),
    Consumer("North Pellow School", "Alda Livro", "alda@northpellow.example", (
        App("Science class", "Harbour Data · Skiff", "Pupils compare predictions with what they measure.",
            Traffic(16, 0.0, (9, 15)), 26),
    ), "Schools"),
    Consumer("Lugworm Bait", "Zeca Isco", "zeca@lugworm.example", (
        App("Digging hours", "Harbour Data · Skiff", "A message when the flats fall dry.",
            Traffic(19, 1.2, (3, 21)), 34),
    )),
    Consumer("Stonechat Surf", "Iris Onda", "iris@stonechat.example", (
        App("Surf call", "Sea Watch · Ketch", "Tell surfers when the waves are right.",
            Traffic(200, 1.7, (5, 21)), 5, keys=2),
    )),
    Consumer("Wrackline Research", "Teodora Alga", "teodora@wrackline.example", (
        App("Drift model", "Sea Watch · Schooner", "Feed a model of drifting weed with waves and wind.",
            Traffic(300, 1.0, (0, 24), 70, (1, 5)), 7),
        App("Field map", "Chart Tiles · Schooner", "Where each sample was taken, on the chart.",
            Traffic(90, 0.4, (8, 19)), 73),
    )),
    Consumer("Seaholm Radio", "Gil Antena", "gil@seaholm.example", (
        App("Shipping bulletin", "Sea Watch · Ketch", "The figures behind our hourly bulletin.",
            Traffic(62, 1.0, (5, 24)), 9),
    )),
    Consumer("Tern & Teal Mutual", "Berta Aval", "berta@terntealmutual.example", (
        App("Storm file", "Sea Watch · Ketch", "Wind at the time a boat was damaged.",
            Traffic(44, 0.2, (8, 18)), 16),
        App("Claim map", "Chart Tiles · Ketch", "Show where it happened on the chart.",
            from_day=97, outcome="waiting", expected=(("tile_megabytes", Decimal(900)),)),
    )),
    Consumer("Kelpie Diving", "Sol Barbatana", "sol@kelpie.example", (
        App("Dive slate", "Sea Watch · Skiff", "Is it calm enough to dive this morning?",
            Traffic(34, 1.8, (6, 18)), 77),
    )),
    Consumer("Rowan Regatta", "Pia Boia", "pia@rowan.example", (
        App("Race office", "Sea Watch · Ketch", "Wind at the start line, for one season.",
            Traffic(46, 2.4, (7, 19)), 88),
        App("Course map", "Chart Tiles · Ketch", "Where the buoys of a race lie.",
            Traffic(60, 2.4, (7, 19)), 89),
    )),
    Consumer("Ospreyview Drones", "Nuno Asa", "nuno@ospreyview.example", (
        App("Flight planner", "Chart Tiles · Schooner", "The chart under the flight path.",
            Traffic(350, 0.7, (6, 21)), 4, keys=2),
    )),
    Consumer("Grebe Games", "Olga Pena", "olga@grebe.example", (
        App("Harbour game", "Chart Tiles · Ketch", "A game in which children bring boats home.",
            Traffic(200, 1.6, (9, 22)), 10),
    )),
)  # fmt: skip
