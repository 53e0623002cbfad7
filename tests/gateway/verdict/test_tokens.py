"""The keys of an outside issuer: one it has taken back is good no longer than a minute, nor than it says."""

from __future__ import annotations

import asyncio
import json
from collections.abc import Callable
from typing import Any

import aiohttp
import pytest
from aiohttp import web
from joserfc import jws, jwt
from joserfc.jwk import ECKey

from calm_tariff.gateway.compiled.snapshot import Snapshot
from calm_tariff.gateway.verdict import tokens
from calm_tariff.gateway.verdict.credentials import Fault
from calm_tariff.gateway.verdict.tokens import Tokens
from calm_tariff.services.admit import applications
from calm_tariff.services.compose import issuers
from calm_tariff.services.compose.issuers import IssuerTyped
from calm_tariff.services.serve.gateway_feed import read_feed
from tests.office import Office
from tests.processes import awaited

ISSUER = "https://harbour.example"


class Issuing:
    """An issuer on this machine, whose keys and answers are set, and a clock that is moved."""

    def __init__(self) -> None:
        self.keys = {kid: ECKey.generate_key("P-256", {"kid": kid}, private=True) for kid in ("one", "two")}
        self.given = ["one"]
        self.cache = ""
        self.status = 200
        self.asked = 0
        self.now = 1_000_000.0
        self.client = ""
        self.tokens = Tokens("http://here", clock=lambda: self.now)

    async def answer(self, request: web.Request) -> web.Response:
        if request.path == "/other":
            raise AssertionError("a redirect was followed")
        self.asked += 1
        headers = {"Cache-Control": self.cache} if self.cache else {}
        if self.status == 302:
            headers["Location"] = "/other"
        keys = [self.keys[kid].as_dict(private=False) for kid in self.given]
        return web.json_response({"keys": keys}, status=self.status, headers=headers)

    def token(self, kid: str = "one", **claims: Any) -> str:
        given = {"iss": ISSUER, "aud": "larkmouth", "exp": 2_000_000_000, **claims}
        return jwt.encode(
            {"alg": "ES256", "kid": kid}, {k: v for k, v in given.items() if v is not None}, self.keys[kid]
        )


def tried(office: Office, issuing: Issuing, story: Callable[[Callable[..., Any]], Any]) -> None:
    """Run a story that asks whose a token is: `ok`, or the code of what is wrong with it."""
    issuing.client = applications.own(office.acting(office.consumers[0]))[0].client_id

    async def run() -> None:
        app = web.Application()
        app.router.add_get("/{rest:.*}", issuing.answer)
        runner = web.AppRunner(app)
        await runner.setup()
        await web.TCPSite(runner, "127.0.0.1", 0).start()
        port = runner.addresses[0][1]
        typed = IssuerTyped("Harbour", ISSUER, f"http://127.0.0.1:{port}/keys", "larkmouth", ("ES256",))
        issuers.add(office.manager, typed)
        snapshot = Snapshot(read_feed(office.ctx))
        async with aiohttp.ClientSession() as session:
            asking = issuing.tokens
            asking.session = session

            async def whose(text: str) -> str:
                found = await asking.identify(snapshot, text, office.ctx.now_us)
                return found.code if isinstance(found, Fault) else "ok"

            await story(whose)
        await runner.cleanup()

    awaited(run())


def test_a_key_taken_back_is_good_for_a_minute_at_most(office: Office) -> None:
    issuing = Issuing()

    async def story(whose: Callable[..., Any]) -> None:
        old = issuing.token("one", sub=issuing.client)
        assert await whose(old) == "ok"
        for _ in range(50):  # verified already, and still not good for ever
            assert await whose(old) == "ok"
        assert issuing.asked == 1
        issuing.given = ["two"]
        issuing.now += 60
        assert await whose(old) == "ok"
        issuing.now += 0.5
        assert await whose(old) == "token-signature"
        assert await whose(issuing.token("two", sub=issuing.client)) == "ok"
        assert issuing.asked == 2

    tried(office, issuing, story)


@pytest.mark.parametrize(
    ("cache", "seconds"),
    [
        ("max-age=20", 20),
        ("public, MAX-AGE=7", 7),
        ("max-age=86400", 60),
        ("no-store", 5),
        ("no-cache", 5),
        ("max-age=0", 5),
        ("", 60),
        ("max-age=x", 60),
        ("s-maxage=3", 60),
    ],
)
def test_keys_are_kept_as_long_as_they_say_and_no_longer_than_a_minute(
    office: Office, cache: str, seconds: int
) -> None:
    issuing = Issuing()
    issuing.cache = cache

    async def story(whose: Callable[..., Any]) -> None:
        token = issuing.token("one", sub=issuing.client)
        assert await whose(token) == "ok"
        issuing.now += seconds
        await whose(token)
        assert issuing.asked == 1
        issuing.now += 0.5
        await whose(token)
        assert issuing.asked == 2

    tried(office, issuing, story)


def test_a_key_not_seen_before_is_asked_for_but_not_for_every_forgery(office: Office) -> None:
    issuing = Issuing()

    async def story(whose: Callable[..., Any]) -> None:
        assert await whose(issuing.token("one", sub=issuing.client)) == "ok"
        issuing.now += 5.5
        issuing.given = ["one", "two"]
        assert await whose(issuing.token("two", sub=issuing.client)) == "ok"
        issuing.keys["three"] = ECKey.generate_key("P-256", {"kid": "three"}, private=True)
        forged = [whose(issuing.token("three", sub=issuing.client)) for _ in range(50)]
        assert set(await asyncio.gather(*forged)) == {"token-signature"}
        assert issuing.asked == 2
        issuing.now += 5.5
        forged = [whose(issuing.token("three", sub=issuing.client)) for _ in range(50)]
        assert set(await asyncio.gather(*forged)) == {"token-signature"}
        assert issuing.asked == 3

    tried(office, issuing, story)


def test_an_issuer_that_does_not_answer_is_believed_a_while_and_redirects_lead_nowhere(office: Office) -> None:
    issuing = Issuing()

    async def story(whose: Callable[..., Any]) -> None:
        token = issuing.token("one", sub=issuing.client)
        issuing.status = 302
        assert await whose(token) == "issuer-away"
        issuing.status, issuing.now = 200, issuing.now + 6
        assert await whose(token) == "ok"
        issuing.status, issuing.now = 500, issuing.now + 299
        assert await whose(token) == "ok"
        issuing.now += 6
        assert await whose(token) == "issuer-away"

    tried(office, issuing, story)


def _signed(issuing: Issuing, claims: str) -> str:
    """A token with a good signature over claims as they are written here."""
    return jws.serialize_compact({"alg": "ES256", "kid": "one"}, claims.encode(), issuing.keys["one"])


@pytest.mark.parametrize(
    "times",
    [
        '"exp": NaN',
        '"exp": Infinity',
        '"exp": -Infinity',
        '"exp": 1e400',
        '"exp": 2000000000.5',
        '"exp": true',
        '"exp": "2000000000"',
        '"exp": null',
        '"x": 1',
        '"exp": 99999999999999999999',
        '"exp": 2000000000, "nbf": NaN',
        '"exp": 2000000000, "iat": -Infinity',
        '"exp": [2000000000]',
        '"exp": 2000000000, "nbf": false',
    ],
)
def test_times_that_are_no_whole_numbers_make_no_token(office: Office, times: str) -> None:
    issuing = Issuing()

    async def story(whose: Callable[..., Any]) -> None:
        rest = f'"iss": "{ISSUER}", "aud": "larkmouth", "sub": {json.dumps(issuing.client)}'
        assert await whose(_signed(issuing, f'{{{rest}, "exp": 2000000000}}')) == "ok"
        assert await whose(_signed(issuing, f"{{{rest}, {times}}}")) in ("token-malformed", "token-signature")

    tried(office, issuing, story)


def test_what_is_kept_of_tokens_is_bounded(office: Office, monkeypatch: pytest.MonkeyPatch) -> None:
    issuing = Issuing()
    monkeypatch.setattr(tokens, "KEPT", 20_000)
    kept: list[int] = []

    async def story(whose: Callable[..., Any]) -> None:
        asking = issuing.tokens
        for n in range(60):
            assert await whose(issuing.token("one", sub=issuing.client, n=n, fill="x" * 600)) == "ok"
            kept.append(sum(len(t) for t in asking._verified))
            assert kept[-1] == asking._size <= 20_000
        issuing.now += 61
        assert await whose(issuing.token("one", sub=issuing.client)) == "ok"
        assert len(asking._verified) == 1

    tried(office, issuing, story)
