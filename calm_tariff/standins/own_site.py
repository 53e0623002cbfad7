"""A provider's own site at /own-site: it makes accounts and subscriptions for those who are sent to it, and its
documentation shows a reader's own keys. What it needs to know it is told at /own-site/settings."""

from __future__ import annotations

import json
import time
from dataclasses import dataclass, field
from datetime import UTC, datetime
from html import escape
from typing import Annotated, Any

import httpx
from fastapi import APIRouter, Form, HTTPException, Request
from fastapi.responses import HTMLResponse, RedirectResponse
from joserfc import jwt
from joserfc.errors import JoseError
from joserfc.jwk import KeySet
from pydantic import BaseModel
from standardwebhooks import Webhook


class Told(BaseModel):
    """The installation's address, a service token of it, and what its documentation signs with."""

    installation: str
    token: str = ""
    documentation_secret: str = ""


@dataclass
class OwnSite:
    """What the site knows, and which statements it has used: each is good once."""

    told: Told | None = None
    used: set[str] = field(default_factory=set)

    def known(self) -> Told:
        """What it was told. Raises an answer for where nothing was."""
        if self.told is None:
            raise HTTPException(503, "tell this site first, at /own-site/settings")
        return self.told

    def read(self, statement: str, site: str, use: bool = False) -> dict[str, Any]:
        """What a statement says that the installation signed and that is meant for this site, by its origin, now."""
        address = self.known().installation
        try:
            keys = KeySet.import_key_set(httpx.get(f"{address}/oauth2/jwks.json").json())
            read = jwt.decode(statement, keys, algorithms=["ES256"])
        except (JoseError, ValueError) as error:
            raise HTTPException(403, "this statement is not the installation's") from error
        said = dict(read.claims)
        # What else the installation signs, such as a token, is no statement.
        meant = read.header.get("typ") == "statement+jwt" and (said["iss"], said["aud"]) == (address, site)
        if not meant or said["exp"] < time.time() or said["jti"] in self.used:
            raise HTTPException(403, "this statement is another's, too old, or was used")
        if use:
            self.used.add(said["jti"])
        return said

    def ask(self, method: str, path: str, body: Any) -> Any:
        """Something that is done through the console's API."""
        told = self.known()
        headers = {"Authorization": f"Bearer {told.token}"}
        answer = httpx.request(method, f"{told.installation}/api/v1{path}", json=body, headers=headers, timeout=60)
        if answer.is_error:
            raise HTTPException(409, answer.json()["detail"])
        return answer.json()


_Field = Annotated[str, Form()]


def router() -> APIRouter:
    """The site."""
    made = APIRouter(prefix="/own-site")
    site = OwnSite()

    @made.put("/settings", status_code=204)
    def tell(told: Told) -> None:
        site.told = told

    @made.get("")
    def arrive(request: Request, statement: str) -> HTMLResponse:
        """Who comes, and what is asked of them here."""
        said = site.read(statement, _origin(request))
        if said["asks"] == "sign up":
            fields = "".join(
                f"<p><label>{label} <input name={name} required></label></p>"
                for name, label in (("organisation", "Organisation"), ("name", "Your name"), ("email", "E-mail"))
            )
            words = f"You come from {said['portal']['name']}."
        else:
            fields = ""
            words = f"{said['member']['name']} of {said['consumer']['name']} chose {said['plan']['name']}."
        return _page(
            f"<p>{escape(words)}</p><form method=post action=/own-site/done>"
            f"<input type=hidden name=statement value={json.dumps(escape(statement))}>{fields}"
            "<p><button>Agree and go on</button></p></form>"
        )

    @made.post("/done")
    def finish(
        request: Request, statement: _Field, organisation: _Field = "", name: _Field = "", email: _Field = ""
    ) -> Any:
        """Make what was asked for, and send the person back."""
        said = site.read(statement, _origin(request), use=True)
        if said["asks"] == "sign up":
            typed = {"organisation": organisation, "name": name, "email": email, "portal_id": said["portal"]["id"]}
            site.ask("POST", "/consumers", typed)
            return RedirectResponse(said["back"], 303)
        application = said.get("application")
        if application is None:
            wanted = {"name": f"For {said['plan']['name']}", "purpose": "Made at the provider's own site."}
            application = site.ask("POST", f"/consumers/{said['consumer']['id']}/applications", wanted)
        chosen = {
            "plan_id": said["plan"]["id"],
            "purpose": "Chosen at the provider's own site.",
            "payment": {"method": "transfer"},
        }
        site.ask("POST", f"/applications/{application['id']}/subscriptions", chosen)
        return RedirectResponse(said["back"], 303)

    @made.get("/documentation")
    def examples(portal: str, email: str) -> HTMLResponse:
        """An example with the reader's own key in it, by the portal's personal endpoint."""
        told = site.known()
        body, now = json.dumps({"email": email}), datetime.now(UTC)
        fields = {
            "content-type": "application/json",
            "webhook-id": f"ask-{now.timestamp()}",
            "webhook-timestamp": str(int(now.timestamp())),
            "webhook-signature": Webhook(told.documentation_secret).sign(f"ask-{now.timestamp()}", now, body),
        }
        answer = httpx.post(f"{told.installation}{portal}/api/v1/personal", content=body, headers=fields, timeout=60)
        if answer.is_error:
            raise HTTPException(502, answer.json()["detail"])
        keys = [f"{key['prefix']}... of {each['name']}" for each in answer.json() for key in each["keys"]]
        return _page("".join(f"<pre>X-API-Key: {escape(key)}</pre>" for key in keys or ["YOUR-KEY"]))

    return made


def _origin(request: Request) -> str:
    return str(request.base_url).rstrip("/")


def _page(inside: str) -> HTMLResponse:
    return HTMLResponse(f"<!doctype html><html lang=en><title>Our own site</title><h1>Our own site</h1>{inside}</html>")
