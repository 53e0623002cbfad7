"""Starting every process of the product, waiting until each answers, and stopping what was started."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
import urllib.error
import urllib.request
from dataclasses import dataclass, field
from pathlib import Path
from threading import Event

from calm_tariff.launch.children import die_with_parent, port_taken
from calm_tariff.launch.database import CannotStart, Database
from calm_tariff.settings import Settings

READY_SECONDS = 120


@dataclass(frozen=True, slots=True)
class Part:
    """A process: its subcommand of `calm_tariff.cli`, and the address that answers once it is ready."""

    name: str
    command: str
    port: int | None
    health: str | None


@dataclass
class Supervisor:
    """All processes of one installation. Children end with it, however it ends."""

    settings: Settings
    database: Database
    children: dict[str, subprocess.Popen[bytes]] = field(default_factory=dict)

    def parts(self) -> list[Part]:
        """The processes in the order they start."""
        s = self.settings
        return [
            Part("stand-ins", "standins", s.standins_port, f"http://127.0.0.1:{s.standins_port}/mood"),
            Part("web", "web", s.web_port, f"http://127.0.0.1:{s.web_port}/healthz"),
            Part("gateway", "gateway", s.gateway_port, f"http://127.0.0.1:{s.gateway_port}/readyz"),
            Part("worker", "worker", None, None),
        ]

    def check_ports(self) -> None:
        """Raise `CannotStart` naming every port another program holds."""
        s = self.settings
        wanted = [(p.name, p.port) for p in self.parts() if p.port]
        wanted += [("mail", s.mail_port), ("metrics", s.metrics_port), ("decisions", s.decisions_port)]
        taken = [f"{port} ({name})" for name, port in wanted if port and port_taken(port)]
        if taken:
            names = "CALM_WEB_PORT, CALM_GATEWAY_PORT, CALM_METRICS_PORT, CALM_DECISIONS_PORT, CALM_STANDINS_PORT, "
            names += "CALM_MAIL_PORT"
            raise CannotStart(f"Taken by another program: port {', '.join(taken)}. Free it, or set {names}.")

    def start(self, part: Part) -> None:
        """Start one process; its log goes to var/log."""
        logs = self.settings.var / "log"
        logs.mkdir(parents=True, exist_ok=True)
        environment = dict(os.environ)
        environment |= {f"CALM_{k.upper()}": str(v) for k, v in self.settings.model_dump().items()}
        with (logs / f"{part.command}.log").open("ab") as log:
            self.children[part.name] = subprocess.Popen(
                [sys.executable, "-m", "calm_tariff.cli", part.command],
                stdout=log, stderr=log, stdin=subprocess.DEVNULL, env=environment,
                preexec_fn=die_with_parent(signal.SIGTERM),
            )  # fmt: skip

    def start_all(self) -> None:
        """Start every process and wait until each answers. Raises `CannotStart`."""
        for part in self.parts():
            self.start(part)
        for part in self.parts():
            self._wait(part)

    def stop_all(self) -> None:
        """Stop every process, the database last."""
        for child in self.children.values():
            if child.poll() is None:
                child.terminate()
        deadline = time.monotonic() + 10
        for child in self.children.values():
            try:
                child.wait(max(0.1, deadline - time.monotonic()))
            except subprocess.TimeoutExpired:
                child.kill()
        self.database.stop()

    def watch(self, stop: Event) -> None:
        """Until told to stop, restart a process that has ended."""
        while not stop.wait(1):
            for part in self.parts():
                child = self.children[part.name]
                if child.poll() is not None and not stop.is_set():
                    print(f"The {part.name} ended with status {child.returncode} and is started again.", flush=True)
                    self.start(part)

    def _wait(self, part: Part) -> None:
        deadline = time.monotonic() + READY_SECONDS
        while time.monotonic() < deadline:
            if self.children[part.name].poll() is not None:
                raise CannotStart(f"The {part.name} stopped at once. Its log ends:\n{self._log_tail(part)}")
            if part.health is None or _answers(part.health):
                return
            time.sleep(0.05)
        raise CannotStart(f"The {part.name} did not answer in {READY_SECONDS} s. Its log ends:\n{self._log_tail(part)}")

    def _log_tail(self, part: Part) -> str:
        path: Path = self.settings.var / "log" / f"{part.command}.log"
        return "\n".join(path.read_text(errors="replace").splitlines()[-12:])


def _answers(address: str) -> bool:
    try:
        with urllib.request.urlopen(address, timeout=2) as answer:
            return bool(answer.status == 200)
    except (urllib.error.URLError, OSError):
        return False
