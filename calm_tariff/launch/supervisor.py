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
from queue import SimpleQueue
from threading import Event

from calm_tariff.launch import logs
from calm_tariff.launch.children import die_with_parent, port_taken
from calm_tariff.launch.database import CannotStart, Database
from calm_tariff.settings import Settings

READY_SECONDS = 120
END_SECONDS = 30


@dataclass(frozen=True, slots=True)
class Part:
    """A process: its subcommand of `calm_tariff.cli`, and the address that answers once it is ready."""

    name: str
    command: str
    port: int | None
    health: str | None


@dataclass(slots=True)
class Ended:
    """How often a process has ended, how the last time, and when it is started again (by the monotonic clock)."""

    times: int = 0
    in_a_row: int = 0
    how: str = ""
    due: float | None = None
    began: float = -1e9

    @property
    def pause(self) -> float:
        """Seconds until it is started again: none the first time, then twice as long each time, at most half a
        minute."""
        return 0.0 if self.in_a_row <= 1 else min(30.0, 0.5 * 2 ** (self.in_a_row - 1))

    def note(self, status: int, now: float) -> None:
        """It has ended with a status; one that ran well for a minute begins to count anew."""
        self.times += 1
        self.in_a_row = 1 if now - self.began > 60 else self.in_a_row + 1
        self.how = f"by {signal.Signals(-status).name}" if status < 0 else f"with status {status}"
        self.due = now + self.pause


@dataclass
class Supervisor:
    """All processes of one installation. Children end with it, however it ends."""

    settings: Settings
    database: Database
    children: dict[str, subprocess.Popen[bytes]] = field(default_factory=dict)
    ended: dict[str, Ended] = field(default_factory=dict)
    _wished: SimpleQueue[tuple[Part, Event]] = field(default_factory=SimpleQueue)

    def parts(self) -> list[Part]:
        """The processes in the order they start."""
        s = self.settings
        outside = Part("stand-ins", "standins", s.standins_port, f"http://127.0.0.1:{s.standins_port}/mood")
        return [
            *([outside] if s.has_standins else []),
            Part("web", "web", s.web_port, f"http://127.0.0.1:{s.web_port}/healthz"),
            Part("gateway", "gateway", s.gateway_port, f"http://127.0.0.1:{s.gateway_port}/readyz"),
            Part("worker", "worker", None, None),
        ]

    def check_ports(self) -> None:
        """Raise `CannotStart` naming every port another program holds."""
        s = self.settings
        wanted = [(p.name, p.port) for p in self.parts() if p.port]
        wanted += [("metrics", s.metrics_port), ("decisions", s.decisions_port)]
        wanted += [("mail", s.mail_port)] if s.has_standins else []
        taken = [f"{port} ({name})" for name, port in wanted if port and port_taken(port)]
        if taken:
            names = "CALM_WEB_PORT, CALM_GATEWAY_PORT, CALM_METRICS_PORT, CALM_DECISIONS_PORT, CALM_STANDINS_PORT, "
            names += "CALM_MAIL_PORT"
            raise CannotStart(f"Taken by another program: port {', '.join(taken)}. Free it, or set {names}.")

    def start(self, part: Part) -> None:
        """Start one process; its log goes to var/log."""
        folder = self.settings.var / "log"
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        environment = dict(os.environ)
        environment |= {f"CALM_{k.upper()}": str(v) for k, v in self.settings.model_dump().items()}
        ended = self.ended.get(part.name)
        if ended:
            environment |= {"CALM_STARTED_AGAIN": str(ended.times), "CALM_ENDED_WITH": ended.how}
        with logs.opened(folder / f"{part.command}.log") as log:
            self.children[part.name] = subprocess.Popen(
                [sys.executable, "-m", "calm_tariff.cli", part.command],
                stdout=log,
                stderr=log,
                stdin=subprocess.DEVNULL,
                env=environment,
                preexec_fn=die_with_parent(signal.SIGTERM),
            )

    def start_all(self, but: str = "") -> None:
        """Start every process, or all but one that is to be started `anew` later, and wait until each answers. Raises
        `CannotStart`."""
        now = [part for part in self.parts() if part.name != but]
        for part in now:
            self.start(part)
        for part in now:
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

    def anew(self, name: str) -> None:
        """Have a process ended in good order, if it was started, and started again, which is no failure of it, by
        the thread that watches: a child ends with the thread that started it. Returns once it answers. Raises
        `CannotStart`."""
        part = next(part for part in self.parts() if part.name == name)
        done = Event()
        self._wished.put((part, done))
        done.wait()
        self._wait(part)

    def watch(self, stop: Event) -> None:
        """Until told to stop, start again whatever has ended, however it did; with growing pauses where it ends again
        and again."""
        while not stop.wait(0.5):
            while not self._wished.empty():
                part, done = self._wished.get()
                if part.name in self.children:
                    self._end(self.children[part.name])
                self.start(part)
                done.set()
            for part in self.parts():
                child = self.children.get(part.name)
                if child and child.poll() is not None and not stop.is_set():
                    self.again(part, child.returncode, time.monotonic())

    def _end(self, child: subprocess.Popen[bytes]) -> None:
        child.terminate()
        try:
            child.wait(END_SECONDS)
        except subprocess.TimeoutExpired:
            child.kill()
            child.wait()

    def again(self, part: Part, status: int, now: float) -> None:
        """Start a process that has ended, once its pause is over."""
        ended = self.ended.setdefault(part.name, Ended())
        if ended.due is None:
            ended.note(status, now)
            print(f"The {part.name} ended {ended.how}; it is started again in {ended.pause:g} s.", flush=True)
        assert ended.due is not None
        if now >= ended.due:
            ended.due = None
            ended.began = now
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
