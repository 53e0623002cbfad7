"""`./calm demo` and `./calm start`: from nothing to a running product."""

from __future__ import annotations

import secrets
import shutil
import signal
import sys
import time
from collections.abc import Sequence
from pathlib import Path
from threading import Event

from sqlalchemy.exc import OperationalError

from calm_tariff.core.errors import Invalid
from calm_tariff.core.portals import Brand
from calm_tariff.demo.scenario import PASSWORD, STAFF
from calm_tariff.formats.addresses import mail_address
from calm_tariff.launch.database import CannotStart, Database, unusable
from calm_tariff.launch.demonstration import Demonstration
from calm_tariff.launch.folder import alone_in, known_as
from calm_tariff.launch.reached import reached
from calm_tariff.launch.stopping import stop_at
from calm_tariff.launch.supervisor import Supervisor
from calm_tariff.services.admit.portals import portals
from calm_tariff.services.base.context import SYSTEM, Context, context_for
from calm_tariff.services.house import service_tokens
from calm_tariff.services.house.installation import ProviderTyped, add_person, check, install, installed
from calm_tariff.settings import Settings, settings_now
from calm_tariff.store.base.connecting import engine
from calm_tariff.store.migrate import upgrade
from calm_tariff.store.tables import metadata


def run(demo: bool) -> int:
    """Start everything and stay until Ctrl-C or SIGTERM; the exit status."""
    stop = stop_at(signal.SIGINT, signal.SIGTERM)
    try:
        base = settings_now()
        _ = base.reach
        provider = first_provider(base)
    except Invalid as error:
        print(_setting_at_fault(error), file=sys.stderr)
        return 1
    try:
        with alone_in(base.var):
            _serve(base, demo, None if demo else provider, stop)
            return 0
    except CannotStart as error:
        print(error, file=sys.stderr)
        return 1


def _serve(base: Settings, demo: bool, provider: ProviderTyped | None, stop: Event) -> None:
    """Start everything in a folder that is held, and stay until told to stop. Raises `CannotStart`."""
    schema = "calm_demo" if demo else "calm"
    database = Database((base.var / "mariadb").resolve(), base.database_port)
    url = database.serving_url(schema)
    _make_own(base.var / schema)
    settings = base.model_copy(
        update={
            "demo": demo,
            "var": (base.var / schema).resolve(),
            "database_url": url,
            "proxy_token": base.proxy_token or _secret(base.var / schema / "proxy-token"),
            "value_secret": base.value_secret or _secret(base.var / schema / "value-secret"),
            "ticket_desk_secret": base.ticket_desk_secret or _secret(base.var / schema / "ticket-desk-secret"),
            "payment_processor_secret": base.payment_processor_secret
            or _secret(base.var / schema / "payment-processor-secret"),
            "outside_billing_secret": base.outside_billing_secret
            or _secret(base.var / schema / "outside-billing-secret"),
            "signing_secret": base.signing_secret or _secret(base.var / schema / "signing-secret"),
        }
    )
    supervisor = Supervisor(settings, database)
    demonstration = Demonstration(settings, stop, supervisor.anew)
    try:
        supervisor.check_ports()
        began = time.monotonic()
        database.start()
        if demo:
            demonstration.clear_half(database, schema)
        ctx = _ready(database.make_schema(schema), settings)
        loading = demonstration.begin(ctx) if demo else None
        password = _first(ctx, settings, provider) if provider else None
        database.let_serve(schema, metadata.tables)
        supervisor.start_all(but="worker" if loading else "")
        with known_as(base.var, schema):
            _greet(settings, demo, time.monotonic() - began)
            if password and provider:
                _introduce(provider, settings.owner, password)
            if loading:
                print("\nThe demo's hundred days are being loaded; every page shows what is there.", flush=True)
                loading.start()
            supervisor.watch(stop)
    finally:
        demonstration.break_off()
        supervisor.stop_all()
        print("Everything is stopped.", flush=True)


def _make_own(folder: Path) -> None:
    """An installation's folder, which nobody else can look into: journals, secrets, logs. Raises `CannotStart`."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
        folder.chmod(0o700)
    except OSError as error:
        raise CannotStart(unusable(error)) from None


def _secret(path: Path) -> str:
    """A secret of this installation, made once and kept readable for its owner alone."""
    if not path.exists():
        path.touch(0o600)
        path.write_text(f"cts_{secrets.token_urlsafe(32)}", encoding="utf-8")
    return path.read_text(encoding="utf-8")


def service_token(label: str, roles: Sequence[str], scopes: Sequence[str]) -> str:
    """A new service token of the installation that runs in this folder. Raises `Invalid`."""
    ctx = reached(SYSTEM)
    try:
        return service_tokens.make_for_machine(ctx, label, *roles, scopes=scopes)
    except OperationalError:
        raise Invalid("the database does not answer; start it with ./calm start or ./calm demo") from None


def reset() -> int:
    """Throw away all data of this folder: database, journals, logs; the exit status. Nothing, where an installation
    runs in it."""
    base = settings_now()
    try:
        with alone_in(base.var):
            Database((base.var / "mariadb").resolve(), base.database_port).stop_leftover()
            for path in (base.var / name for name in ("mariadb", "calm", "calm_demo")):
                if path.exists():
                    shutil.rmtree(path)
    except CannotStart as error:
        print(error, file=sys.stderr)
        return 1
    except OSError as error:
        print(f"Not all data is gone. {unusable(error)}", file=sys.stderr)
        return 1
    print("All data is gone; ./calm demo or ./calm start begins anew.")
    return 0


def first_provider(settings: Settings) -> ProviderTyped:
    """Who sells access in a new installation, as the settings say. Raises `Invalid`, naming the field."""
    typed = ProviderTyped(
        name=settings.provider_name,
        time_zone=settings.time_zone,
        currency=settings.currency,
        tax_percent=settings.tax_percent,
        mail_from=settings.mail_from,
    )
    check(typed)
    mail_address(settings.owner, "owner")
    return typed


def _setting_at_fault(error: Invalid) -> str:
    """Which setting is not right, and what is not right about it, in a sentence."""
    name = {"name": "provider_name"}.get(error.where, error.where).upper()
    return f"{name if name.startswith('CALM_') else f'CALM_{name}'}: {error.what}"


def _ready(url: str, settings: Settings) -> Context:
    """An installation's context, its schema brought up to this version."""
    upgrade(url)
    return context_for(engine(url), sealing_secret=settings.value_secret, reach=settings.reach)


def _first(ctx: Context, settings: Settings, provider: ProviderTyped) -> str | None:
    """In a new installation, make the provider and the first sign-in, and return its password."""
    if installed(ctx):
        return None
    password = secrets.token_urlsafe(12)
    with ctx.transaction() as session:
        install(ctx.joining(session), provider)
        portals.begin(ctx.joining(session), Brand(name=provider.name))
        add_person(ctx.joining(session), settings.owner, "Owner", ["product manager", "owner"], password)
    return password


def _introduce(provider: ProviderTyped, owner: str, password: str) -> None:
    print(
        f"\nA new installation of {provider.name}: {provider.currency}, days of {provider.time_zone}, "
        f"{provider.tax_percent.normalize():f}% tax, letters from {provider.mail_from}.\n"
        "Not right? Change it in the console, House → Settings, before anything is charged. The console's first page\n"
        "leads from there to the first API and the first call.\n"
        f"\nFirst sign-in (shown this once): {owner}, password {password}",
        flush=True,
    )


def _greet(settings: Settings, demo: bool, seconds: float) -> None:
    print(
        f"\nCalm Tariff is up after {seconds:.0f} s.\n"
        f"  console   http://127.0.0.1:{settings.web_port}/\n"
        f"  portal    http://127.0.0.1:{settings.web_port}/portal/\n"
        f"  gateway   {settings.gateway_address}\n"
        + (f"  mailbox   {settings.standins_address}/mailbox\n" if settings.has_standins else "")
        + (f"  cards     {settings.standins_address}/processor" if settings.has_standins else "")
        + (f"\n  billing   {settings.standins_address}/billing" if settings.has_standins else "")
    )
    if demo:
        print("\nSign in with a button, or with the password " + PASSWORD + ":")
        for email, name, roles in STAFF:
            print(f"  {name:8} {' and '.join(roles):26} {email}")
    print("\nCtrl-C stops everything.", flush=True)
