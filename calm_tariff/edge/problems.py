"""Domain errors as problem details (RFC 9457): the one place where they become HTTP."""

from __future__ import annotations

from typing import Any

from fastapi import FastAPI, Request
from fastapi.encoders import jsonable_encoder
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from pydantic_core import PydanticSerializationError
from sqlalchemy.exc import OperationalError
from starlette.exceptions import HTTPException

from calm_tariff.core.errors import (
    Away,
    CalmTariffError,
    Conflict,
    Invalid,
    NotAllowed,
    NotFound,
    NotSignedIn,
    Stale,
    TooMany,
)

# Of many things that are wrong so many are told at once.
_MOST_TOLD = 50

_STATUS: dict[type[CalmTariffError], tuple[int, str]] = {
    Invalid: (422, "Something is not right"),
    NotFound: (404, "Not found"),
    NotAllowed: (403, "Not allowed"),
    NotSignedIn: (401, "Not signed in"),
    Conflict: (409, "Not possible now"),
    Stale: (412, "Changed meanwhile"),
    TooMany: (429, "Too many attempts"),
    Away: (503, "Not answered"),
}


def tell(app: FastAPI) -> None:
    """Have an application answer every error as problem details that name the field.

    `detail` and `where` say what is wrong and where in what was sent; where several fields are, `refused` has each.
    """

    @app.exception_handler(CalmTariffError)
    async def domain(request: Request, error: CalmTariffError) -> JSONResponse:
        status, title = next(_STATUS[kind] for kind in type(error).__mro__ if kind in _STATUS)
        more = {"current": jsonable_encoder(error.current)} if isinstance(error, Stale) else {}
        answer = _problem(status, title, error.what, where=error.where, **more)
        if isinstance(error, TooMany):
            answer.headers["retry-after"] = str(error.wait)
        return answer

    @app.exception_handler(RequestValidationError)
    async def malformed(request: Request, error: RequestValidationError) -> JSONResponse:
        wrong = [tuple(map(_sayable, _wrong(one))) for one in error.errors()[:_MOST_TOLD]]
        where, what = wrong[0]
        refused = [{"where": where, "what": what} for where, what in wrong]
        return _problem(422, "Something is not right", what, where=where, refused=refused)

    @app.exception_handler(HTTPException)
    async def http(request: Request, error: HTTPException) -> JSONResponse:
        return _problem(error.status_code, "Not found" if error.status_code == 404 else "Not possible", error.detail)

    @app.exception_handler(UnicodeEncodeError)
    async def half(request: Request, error: UnicodeEncodeError) -> JSONResponse:
        """JSON can say half of a character (a lone surrogate), which nothing can keep."""
        return _problem(422, "Something is not right", "a text holds half of a character, which cannot be kept")

    @app.exception_handler(PydanticSerializationError)
    async def half_answered(request: Request, error: PydanticSerializationError) -> JSONResponse:
        """The same where it was not to be kept, but said again."""
        if "surrogates not allowed" not in str(error):
            raise error
        return _problem(422, "Something is not right", "a text holds half of a character, which cannot be said")

    @app.exception_handler(OperationalError)
    async def away(request: Request, error: OperationalError) -> JSONResponse:
        return _problem(503, "Not ready", "The database does not answer. Nothing was changed; try again shortly.")


def _wrong(one: dict[str, Any]) -> tuple[str, str]:
    """Where something is wrong and what, of one thing that the validation found; the whole body is nowhere."""
    if one["type"] == "json_invalid":
        return "", f"the body is not JSON: {one['ctx']['error']}, at character {one['loc'][-1] + 1:,}"
    if one["loc"] == ("body",):
        return "", "the body must be a JSON object, sent as application/json"
    if one["type"] == "model_attributes_type":
        return _where(one["loc"]), "must be a JSON object"
    return _where(one["loc"]), one["msg"]


def _where(place: tuple[str | int, ...]) -> str:
    """A place within what was sent, as the path of its names."""
    return ".".join(str(part) for part in place if part not in ("body", "query", "path"))


def _sayable(text: str) -> str:
    """A text that may echo what no encoding holds."""
    return text.encode("utf-8", "replace").decode()


def _problem(status: int, title: str, detail: str, where: str = "", **more: Any) -> JSONResponse:
    said = {"detail": _sayable(detail), "where": _sayable(where)}
    body = {"type": "about:blank", "title": title, "status": status, **said, **more}
    return JSONResponse(body, status, media_type="application/problem+json")
