"""The other back ends: berths, sea state and chart tiles, computed from the clock so that they look alive."""

from __future__ import annotations

import math
import struct
import zlib
from datetime import UTC, datetime, timedelta
from typing import Any

from fastapi import APIRouter, HTTPException, Query, Response

HARBOURS = {"saltgrave": ("Saltgrave Quay", 24), "larkmouth": ("Larkmouth Inner", 40), "thornhithe": ("Thornhithe", 12)}
BUOYS = {"b-1": "Outer Bar", "b-2": "Gull Bank", "b-3": "Wrack Ledge"}
SHEETS = {"larkmouth": "Larkmouth Approaches", "pellow": "Upper Pellow"}
SIDE = 128


def berths() -> APIRouter:
    """Berths: free or taken by the hour; a hold lasts until the hour ends."""
    made = APIRouter(prefix="/berths")
    holds: dict[tuple[str, int], int] = {}

    @made.get("/harbours")
    async def harbours() -> Any:
        return [{"id": key, "name": name, "berths": size} for key, (name, size) in HARBOURS.items()]

    @made.get("/harbours/{harbour}")
    async def harbour(harbour: str) -> Any:
        name, size = _harbour(harbour)
        return {"id": harbour, "name": name, "berths": size}

    @made.get("/harbours/{harbour}/berths")
    async def free(harbour: str, length_m: float = Query(0, ge=0)) -> Any:
        _, size = _harbour(harbour)
        numbers = [n for n in range(1, size + 1) if _free(harbour, n, holds) and _length(n) >= length_m]
        return {"harbour": harbour, "free": [{"berth": n, "length_m": _length(n)} for n in numbers]}

    @made.post("/harbours/{harbour}/berths/{berth}:hold", status_code=201)
    async def hold(harbour: str, berth: int) -> Any:
        _, size = _harbour(harbour)
        if not 1 <= berth <= size or not _free(harbour, berth, holds):
            raise HTTPException(409, "the berth is taken")
        holds[harbour, berth] = _hour()
        return {"harbour": harbour, "berth": berth, "until": datetime.fromtimestamp((_hour() + 1) * 3600, UTC)}

    return made


def sea() -> APIRouter:
    """Sea state: waves and wind that change slowly."""
    made = APIRouter(prefix="/sea")

    @made.get("/buoys")
    async def buoys() -> Any:
        return [{"id": key, "name": name} for key, name in BUOYS.items()]

    @made.get("/buoys/{buoy}/latest")
    async def latest(buoy: str) -> Any:
        return {"buoy": _buoy(buoy), **_measured(buoy, datetime.now(UTC))}

    @made.get("/buoys/{buoy}/{kind}")
    async def by_hour(buoy: str, kind: str, hours: int = Query(24, ge=1, le=240)) -> Any:
        _buoy(buoy)
        names = {"waves": ("wave_m", "period_s"), "wind": ("wind_ms", "wind_from")}.get(kind)
        if names is None:
            raise HTTPException(404, "there are waves and wind")
        begin = datetime.now(UTC).replace(minute=0, second=0, microsecond=0)
        moments = [begin - timedelta(hours=n) for n in range(hours)]
        return [{"at": m, **{name: _measured(buoy, m)[name] for name in names}} for m in moments]

    @made.get("/areas/{area}:summarise")
    async def summarise(area: str, response: Response) -> Any:
        cells = 4 + sum(map(ord, area)) % 21
        response.headers["X-Cells"] = str(cells)
        now = datetime.now(UTC)
        return {"area": area, "cells": [{"cell": n, **_measured(f"{area}{n}", now)} for n in range(cells)]}

    return made


def tiles() -> APIRouter:
    """Chart tiles: depth contours as PNG images."""
    made = APIRouter(prefix="/tiles")

    @made.get("/sheets")
    async def sheets() -> Any:
        return [{"id": key, "name": name} for key, name in SHEETS.items()]

    @made.get("/{sheet}/{z}/{x}/{y}.png")
    async def tile(sheet: str, z: int, x: int, y: int) -> Response:
        if sheet not in SHEETS or not 0 <= z <= 18:
            raise HTTPException(404, "no such sheet or zoom")
        return Response(_png(z, x, y), media_type="image/png")

    return made


def _harbour(name: str) -> tuple[str, int]:
    if name not in HARBOURS:
        raise HTTPException(404, f"no harbour {name}")
    return HARBOURS[name]


def _buoy(name: str) -> str:
    if name not in BUOYS:
        raise HTTPException(404, f"no buoy {name}")
    return name


def _hour() -> int:
    return int(datetime.now(UTC).timestamp()) // 3600


def _free(harbour: str, berth: int, holds: dict[tuple[str, int], int]) -> bool:
    return holds.get((harbour, berth)) != _hour() and (berth * 7 + len(harbour) + _hour()) % 3 == 0


def _length(berth: int) -> float:
    return 6 + berth * 5 % 13


def _measured(place: str, at: datetime) -> dict[str, float | int]:
    phase = at.timestamp() / 3600 + sum(map(ord, place))
    return {
        "wave_m": round(1.4 + math.sin(phase / 9) + 0.3 * math.sin(phase / 2.7), 2),
        "period_s": round(7 + 2 * math.sin(phase / 13), 1),
        "wind_ms": round(8 + 5 * math.sin(phase / 11), 1),
        "wind_from": int(phase * 3) % 360,
    }


def _png(z: int, x: int, y: int) -> bytes:
    """A greyscale image of made-up depth contours."""
    scale = 2.0 ** -(z % 6) * 9
    rows = b"".join(
        b"\0"
        + bytes(
            int(190 + 50 * math.sin((x + i / SIDE) * scale) * math.cos((y + j / SIDE) * scale)) // 12 * 12
            for i in range(SIDE)
        )
        for j in range(SIDE)
    )
    head = struct.pack(">IIBBBBB", SIDE, SIDE, 8, 0, 0, 0, 0)
    chunks = ((b"IHDR", head), (b"IDAT", zlib.compress(rows)), (b"IEND", b""))
    return b"\x89PNG\r\n\x1a\n" + b"".join(
        struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data)) for kind, data in chunks
    )
