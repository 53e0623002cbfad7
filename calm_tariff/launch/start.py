"""`./calm demo` and `./calm start`: from nothing to a running product."""

from __future__ import annotations

import json
import os
import secrets
import shutil
import signal
import sys
import time
from decimal import Decimal
from pathlib import Path
from threading import Event

from sqlalchemy.exc import OperationalError

from calm_tariff.core.errors import Invalid
from calm_tariff.demo.load import load
from calm_tariff.demo.scenario import PASSWORD, STAFF
from calm_tariff.launch.database import CannotStart, Database
from calm_tariff.launch.supervisor import Supervisor
from calm_tariff.services import service_tokens
from calm_tariff.services.context import SYSTEM, Context, context_for
from calm_tariff.services.installation import ProviderTyped, add_person, install, installed
from calm_tariff.settings import Settings
from calm_tariff.store.base import engine
from calm_tariff.store.migrate import upgrade
from calm_tariff.store.tables import metadata


def run(demo: bool) -> int:
    """Start everything and stay until Ctrl-C or SIGTERM; the exit status."""
    stop = Event()
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, lambda *_: stop.set())
    base = Settings()
    schema = "calm_demo" if demo else "calm"
    database = Database((base.var / "mariadb").resolve(), base.database_port)
    try:
        url = database.serving_url(schema)
    except CannotStart as error:
        print(error, file=sys.stderr)
        return 1
    settings = base.model_copy(
        update={
            "demo": demo,
            "var": (base.var / schema).resolve(),
            "database_url": url,
            "proxy_token": base.proxy_token or _secret(base.var / schema / "proxy-token"),
            "value_secret": base.value_secret or _secret(base.var / schema / "value-secret"),
            "signing_secret": base.signing_secret or _secret(base.var / schema / "signing-secret"),
        }
    )
    supervisor = Supervisor(settings, database)
    try:
        supervisor.check_ports()
        began = time.monotonic()
        database.start()
        password = _prepare(database.make_schema(schema), settings, demo)
        database.let_serve(schema, metadata.tables)
        supervisor.start_all()
        _running(base).write_text(json.dumps({"schema": schema, "process": os.getpid()}), encoding="utf-8")
        _greet(settings, demo, password, time.monotonic() - began)
        supervisor.watch(stop)
        return 0
    except CannotStart as error:
        print(error, file=sys.stderr)
        return 1
    finally:
        _running(base).unlink(missing_ok=True)
        supervisor.stop_all()
        print("Everything is stopped.", flush=True)


def _secret(path: Path) -> str:
    """A secret of this installation, made once and kept readable for its owner alone."""
    if not path.exists():
        path.parent.mkdir(parents=True, exist_ok=True)
        path.touch(0o600)
        path.write_text(f"cts_{secrets.token_urlsafe(32)}", encoding="utf-8")
    return path.read_text(encoding="utf-8")


def service_token(label: str, role: str) -> str:
    """A new service token of the installation that runs in this folder. Raises `Invalid`."""
    base = Settings()
    try:
        running = json.loads(_running(base).read_text(encoding="utf-8"))
        os.kill(running["process"], 0)
    except (OSError, ValueError, KeyError):
        raise Invalid("nothing runs in this folder; start it with ./calm start or ./calm demo") from None
    database = Database((base.var / "mariadb").resolve(), base.database_port)
    ctx = context_for(engine(database.serving_url(running["schema"])), actor=SYSTEM)
    try:
        return service_tokens.make_for_machine(ctx, label, role)
    except OperationalError:
        raise Invalid("the database does not answer; start it with ./calm start or ./calm demo") from None


def _running(base: Settings) -> Path:
    """Where what runs in this folder says so."""
    return base.var / "running.json"


def reset() -> int:
    """Throw away all data of this folder: database, journals, logs."""
    var = Settings().var
    for name in ("mariadb", "calm", "calm_demo"):
        shutil.rmtree(var / name, ignore_errors=True)
    print("All data is gone; ./calm demo or ./calm start begins anew.")
    return 0


def _prepare(url: str, settings: Settings, demo: bool) -> str | None:
    """Migrate; load the demo or make the first sign-in where there is none yet, and return its password."""
    upgrade(url)
    ctx = context_for(engine(url), sealing_secret=settings.value_secret, reach=settings.reach)
    if installed(ctx):
        return None
    if demo:
        print("Loading the demo data …", flush=True)
        began = time.monotonic()
        count = load(ctx, settings.standins_address, lambda words: print(f"  {words}", flush=True))
        print(f"  {count:,} calls recorded in {time.monotonic() - began:.0f} s", flush=True)
        return None
    return _first_person(ctx)


def _first_person(ctx: Context) -> str:
    password = secrets.token_urlsafe(12)
    install(
        ctx,
        ProviderTyped(
            name="Your organisation", time_zone="Europe/Lisbon", currency="EUR", tax_percent=Decimal(0),
            mail_from="access@provider.example",
        ),
    )  # fmt: skip
    add_person(ctx, "owner@provider.example", "Owner", "product manager", password)
    return password


def _greet(settings: Settings, demo: bool, password: str | None, seconds: float) -> None:
    print(
        f"\nCalm Tariff is up after {seconds:.0f} s.\n"
        f"  console   http://127.0.0.1:{settings.web_port}/\n"
        f"  portal    http://127.0.0.1:{settings.web_port}/portal/\n"
        f"  gateway   {settings.gateway_address}\n"
        + (f"  mailbox   {settings.standins_address}/mailbox" if settings.has_standins else "")
    )
    if demo:
        print("\nSign in with a button, or with the password " + PASSWORD + ":")
        for email, name, role in STAFF:
            print(f"  {name:8} {role:16} {email}")
    if password:
        print(f"\nFirst sign-in (shown this once): owner@provider.example, password {password}")
    print("\nCtrl-C stops everything.", flush=True)
