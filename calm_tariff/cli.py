"""The commands behind `./calm`. Each imports only what it needs, so that small ones start at once."""

from __future__ import annotations

import argparse
import json
import sys
from collections.abc import Callable
from pathlib import Path

from calm_tariff.core.errors import Invalid
from calm_tariff.core.house import ROLES


def main(arguments: list[str] | None = None) -> int:
    """Run a command; the exit status."""
    parser = argparse.ArgumentParser(prog="./calm", description="Calm Tariff")
    commands = parser.add_subparsers(dest="command", required=True, metavar="COMMAND")
    for name, (words, _) in _COMMANDS.items():
        command = commands.add_parser(name, help=words)
        if name in ("decide", "rate", "late", "account"):
            command.add_argument("file", metavar="FILE", help="a case or a list of cases, as JSON; - for input")
        if name == "openapi":
            command.add_argument("folder", metavar="FOLDER")
        if name == "token":
            command.add_argument("label", metavar="LABEL", help="what the token is for")
            command.add_argument("role", metavar="ROLE", nargs="+", help=f"one or more of {', '.join(ROLES)}")
            command.add_argument(
                "--scope", action="append", default=[], help="narrow it to a scope, as 'read settle'; may be repeated"
            )
        if name == "audit":
            command.add_argument("--kept", metavar="NUMBER:DIGEST", default="", help="an entry as it was told before")
            command.add_argument("--all", action="store_true", help="tell of each subscription and meter as well")
        if name == "tariff":
            _tariff_arguments(command)
        if name == "usage":
            _usage_arguments(command)
    chosen = parser.parse_args(arguments)
    try:
        return _COMMANDS[chosen.command][1](chosen)
    except Invalid as error:
        from calm_tariff.settings import SettingInvalid

        if not isinstance(error, SettingInvalid):
            raise
        print(error, file=sys.stderr)
        return 1


def _offline(answer: str) -> Callable[[argparse.Namespace], int]:
    def run(chosen: argparse.Namespace) -> int:
        from calm_tariff.formats import cases

        try:
            text = sys.stdin.read() if chosen.file == "-" else Path(chosen.file).read_text(encoding="utf-8")
            print(json.dumps(getattr(cases, answer)(text), indent=1))
        except Invalid as error:
            print(f"{chosen.file}: {error}", file=sys.stderr)
            return 2
        except (OSError, UnicodeDecodeError) as error:
            print(f"{chosen.file}: cannot be read: {error}", file=sys.stderr)
            return 2
        return 0

    return run


def _demo(_: argparse.Namespace) -> int:
    from calm_tariff.launch.start import run

    return run(demo=True)


def _start(_: argparse.Namespace) -> int:
    from calm_tariff.launch.start import run

    return run(demo=False)


def _reset(_: argparse.Namespace) -> int:
    from calm_tariff.launch.start import reset

    return reset()


def _status(_: argparse.Namespace) -> int:
    from calm_tariff.launch.status import status

    return status()


def _log(process: str) -> None:
    from calm_tariff.launch import logs

    logs.begin(process)


def _web(_: argparse.Namespace) -> int:
    _log("web")
    from calm_tariff.settings import settings_now
    from calm_tariff.web import serve

    serve(settings_now())
    return 0


def _gateway(_: argparse.Namespace) -> int:
    _log("gateway")
    import asyncio

    import uvloop

    from calm_tariff.gateway.run import serve
    from calm_tariff.settings import settings_now

    s = settings_now()
    with asyncio.Runner(loop_factory=uvloop.new_event_loop) as runner:
        runner.run(serve(s))
    return 0


def _standins(_: argparse.Namespace) -> int:
    _log("standins")
    from calm_tariff.settings import settings_now
    from calm_tariff.standins.run import serve

    serve(settings_now())
    return 0


def _worker(_: argparse.Namespace) -> int:
    _log("worker")
    from signal import SIGTERM

    from calm_tariff.launch.stopping import stop_at
    from calm_tariff.settings import settings_now
    from calm_tariff.worker.run import work

    work(settings_now(), stop_at(SIGTERM))
    return 0


def _tariff_arguments(command: argparse.ArgumentParser) -> None:
    command.add_argument("what", choices=("export", "diff", "apply", "schema"))
    command.add_argument("file", metavar="FILE", nargs="?", help="a tariff document; - for input")
    command.add_argument(
        "--publish",
        choices=("keep", "next period", "at date"),
        help="publish new terms, and what becomes of those on a plan; without it they stay drafts",
    )
    command.add_argument("--on", metavar="DAY", help="the day for --publish 'at date', as 2027-01-01")


def _tariff(chosen: argparse.Namespace) -> int:
    from calm_tariff.remote import tariff

    return tariff(chosen.what, chosen.file, chosen.publish, chosen.on)


def _usage_arguments(command: argparse.ArgumentParser) -> None:
    command.add_argument("what", choices=("import",))
    command.add_argument("file", metavar="FILE", help="calls as CSV, JSON Lines or CloudEvents")
    command.add_argument("--source", default="", metavar="NAME", help="the source of rows that name none")
    command.add_argument("--leave-out", action="store_true", help="record the others where some rows cannot be used")


def _usage(chosen: argparse.Namespace) -> int:
    from calm_tariff.remote import usage

    return usage(chosen.file, chosen.source, chosen.leave_out)


def _token(chosen: argparse.Namespace) -> int:
    from calm_tariff.core.errors import Invalid
    from calm_tariff.launch.database import CannotStart
    from calm_tariff.launch.start import service_token

    try:
        print(service_token(chosen.label, chosen.role, chosen.scope))
    except (Invalid, CannotStart) as error:
        print(error, file=sys.stderr)
        return 2
    return 0


def _audit(chosen: argparse.Namespace) -> int:
    from calm_tariff.launch.auditing import audit

    return audit(chosen.kept, chosen.all)


def _roles(_: argparse.Namespace) -> int:
    from calm_tariff.web import roles_page

    print(roles_page(), end="")
    return 0


def _openapi(chosen: argparse.Namespace) -> int:
    from calm_tariff.web import write_openapi

    write_openapi(Path(chosen.folder))
    return 0


_COMMANDS: dict[str, tuple[str, Callable[[argparse.Namespace], int]]] = {
    "demo": ("start everything with demo data", _demo),
    "start": ("start everything, keeping what is there", _start),
    "status": ("say which version this is, what runs in this folder, and how each process is", _status),
    "reset": ("throw away all data of this folder", _reset),
    "decide": ("decide on the calls of a case", _offline("decide_text")),
    "rate": ("compute the charge of a case", _offline("rate_text")),
    "late": ("compute what later usage changes of a period already charged", _offline("late_text")),
    "account": ("compute what is open of an account, and what it led to", _offline("account_text")),
    "tariff": ("export, compare or apply the tariff as a document", _tariff),
    "usage": ("bring in calls that another gateway counted", _usage),
    "token": ("make a service token for a script", _token),
    "audit": ("look through the record and the books, and say whether they are whole", _audit),
    "web": ("only the web process", _web),
    "gateway": ("only the gateway", _gateway),
    "standins": ("only the stand-ins", _standins),
    "worker": ("only the worker", _worker),
    "roles": ("print who may use which route of the console's API", _roles),
    "openapi": ("write the OpenAPI documents into a folder", _openapi),
}

if __name__ == "__main__":
    sys.exit(main())
