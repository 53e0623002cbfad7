"""Generated clients of what a product sells: asked for in a portal, made by a job, kept by the document they are of."""

from __future__ import annotations

import hashlib
from dataclasses import asdict, dataclass
from datetime import timedelta
from typing import Any, Literal

import orjson
from sqlalchemy import delete
from sqlalchemy.dialects.mysql import insert

from calm_tariff.core.errors import Invalid, NotFound
from calm_tariff.formats import client_packages
from calm_tariff.formats.client_packages import EDITION, LANGUAGES, ClientFacts, Language
from calm_tariff.services.admit.portals import downloads
from calm_tariff.services.base import jobs
from calm_tariff.services.base.context import Context
from calm_tariff.store.admit.client_packages import ClientPackage

MAKE = "make a client"
# For so long after it was last asked for a client is kept.
KEPT = timedelta(days=30)
State = Literal["not made", "being made", "ready", "failed", "cannot be"]


@dataclass(frozen=True, slots=True, kw_only=True)
class ClientState:
    """How far a client in a language has come, and why it has failed or cannot be."""

    language: Language
    state: State
    why: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Wanted:
    """A client to make: of a document, in a language."""

    language: Language
    facts: ClientFacts
    document: dict[str, Any]


@dataclass(frozen=True, slots=True)
class _Of:
    """What a client is made of, and its digest."""

    facts: ClientFacts
    document: bytes
    digest: str


def states(ctx: Context, slug: str, version_id: int, gateway: str) -> list[ClientState]:
    """How far the clients are of what a product sells of a version. Raises `NotFound`."""
    found = []
    for language in LANGUAGES:
        try:
            of = _of(ctx, slug, version_id, gateway, language)
        except Invalid as refusal:
            found.append(ClientState(language=language, state="cannot be", why=refusal.what))
            continue
        with ctx.reading() as session:
            found.append(_state(language, session.get(ClientPackage, of.digest)))
    return found


def ask(ctx: Context, slug: str, version_id: int, gateway: str, language: Language) -> ClientState:
    """Have a client made, unless it is there or on its way; one that failed is tried again. Raises `NotFound`, or
    `Invalid` where none can be made of the document."""
    of = _of(ctx, slug, version_id, gateway, language)
    with ctx.transaction() as session:
        made = insert(ClientPackage).values(
            digest=of.digest,
            language=language,
            name=of.facts.name,
            document=of.document.decode(),
            facts=orjson.dumps(asdict(of.facts)).decode(),
            asked_at=ctx.now,
            why="",
            ready=False,
        )
        session.execute(made.on_duplicate_key_update(asked_at=ctx.now, why=""))
        package = session.get_one(ClientPackage, of.digest, populate_existing=True)
        if not package.ready:
            about = f"{of.facts.title} for {language}"
            jobs.write(session, ctx, MAKE, about, {"digest": of.digest}, subject=of.digest)
        return _state(language, package)


def take(ctx: Context, slug: str, version_id: int, gateway: str, language: Language) -> tuple[str, bytes]:
    """The name of a client's archive, and what it holds. Raises `NotFound` where it is not made."""
    of = _of(ctx, slug, version_id, gateway, language)
    with ctx.reading() as session:
        package = session.get(ClientPackage, of.digest)
        if package is None or package.content is None:
            raise NotFound("it is not made; ask for it first", language)
        return f"{package.name}-{language}.zip", package.content


def wanted(ctx: Context, digest: str) -> Wanted | None:
    """What a job is to make; None where that is done, or nobody wants it any more."""
    with ctx.transaction() as session:
        package = session.get(ClientPackage, digest)
        if package is None or package.ready:
            return None
        language: Language = "python" if package.language == "python" else "typescript"
        return Wanted(
            language=language,
            facts=ClientFacts(**orjson.loads(package.facts)),
            document=orjson.loads(package.document),
        )


def keep(ctx: Context, digest: str, files: dict[str, bytes]) -> None:
    """Keep a client that was made."""
    with ctx.transaction() as session:
        package = session.get(ClientPackage, digest)
        if package is not None:
            package.content = client_packages.zipped(package.name, files)
            package.ready, package.why = True, ""


def fail(ctx: Context, digest: str, why: str) -> None:
    """Keep why a client cannot be made of a document."""
    with ctx.transaction() as session:
        package = session.get(ClientPackage, digest)
        if package is not None and not package.ready:
            package.why = why[:1000]


def forget(ctx: Context) -> None:
    """Throw away what nobody has asked for in a long time."""
    with ctx.transaction() as session:
        session.execute(delete(ClientPackage).where(ClientPackage.asked_at < ctx.now - KEPT))


def _of(ctx: Context, slug: str, version_id: int, gateway: str, language: Language) -> _Of:
    document = downloads.openapi(ctx, slug, version_id, gateway)
    facts = downloads.client_facts(ctx, slug, version_id, gateway)
    client_packages.refuse_older(document)
    text = orjson.dumps(document, option=orjson.OPT_SORT_KEYS)
    said = orjson.dumps([EDITION, language, asdict(facts)], option=orjson.OPT_SORT_KEYS)
    return _Of(facts, text, hashlib.sha256(said + b"\n" + text).hexdigest())


def _state(language: Language, package: ClientPackage | None) -> ClientState:
    if package is None:
        return ClientState(language=language, state="not made", why="")
    state: State = "ready" if package.ready else "failed" if package.why else "being made"
    return ClientState(language=language, state=state, why=package.why)
