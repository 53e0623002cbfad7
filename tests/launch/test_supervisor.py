"""Which processes run, and how one that ends is started again."""

from __future__ import annotations

import signal
import subprocess
import sys
from pathlib import Path
from threading import Event, Thread

import pytest

from calm_tariff.launch import supervisor as supervising
from calm_tariff.launch.children import die_with_parent
from calm_tariff.launch.database import Database
from calm_tariff.launch.supervisor import Ended, Part, Supervisor
from calm_tariff.settings import Settings
from tests.ports import free_port


def supervisor(tmp_path: Path, **settings: object) -> Supervisor:
    return Supervisor(Settings(var=tmp_path, **settings), Database(tmp_path, free_port()))


@pytest.mark.parametrize(("settings", "there"), [({}, False), ({"demo": True}, True), ({"standins": True}, True)])
def test_stand_ins_run_in_a_demo_alone_unless_they_are_named(tmp_path: Path, settings: dict, there: bool) -> None:
    made = supervisor(tmp_path, **settings)
    assert ("stand-ins" in [part.name for part in made.parts()]) is there
    # Anybody can tell the desk among them that a request is granted: without them there is none.
    assert bool(made.settings.ticket_desk_address) is there
    named = Settings(ticket_desk="https://desk.example", ticket_desk_secret="x" * 32)
    assert named.ticket_desk_address == "https://desk.example"


def test_a_desk_that_is_named_needs_a_secret_to_sign_with() -> None:
    for secret in ("", "x" * 31):
        with pytest.raises(ValueError, match="must have 32 characters or more"):
            Settings(ticket_desk="https://desk.example", ticket_desk_secret=secret)


class Starting(Supervisor):
    """Writes down what would be started."""

    def start(self, part: Part) -> None:
        self.__dict__.setdefault("started", []).append(part.name)


def test_what_dies_again_and_again_is_started_after_ever_longer_pauses(tmp_path: Path) -> None:
    made = Starting(Settings(var=tmp_path), Database(tmp_path, free_port()))
    gateway = next(part for part in made.parts() if part.name == "gateway")
    now, pauses = 1000.0, []
    for n in range(9):
        began = now
        made.again(gateway, -11, now)
        while len(made.__dict__.get("started", [])) == n:
            now += 0.5
            made.again(gateway, -11, now)
        pauses.append(now - began)
        now += 1
    assert pauses[0] == 0 and pauses == sorted(pauses) and pauses[-1] == 30
    assert (made.ended["gateway"].times, made.ended["gateway"].how) == (9, "by SIGSEGV")


class Standing(Supervisor):
    """Two processes that stand there until they are told to end; or that do not listen."""

    deaf = False

    def parts(self) -> list[Part]:
        return [Part(name, name, None, None) for name in ("gateway", "worker")]

    def start(self, part: Part) -> None:
        listens = "signal.signal(signal.SIGTERM, signal.SIG_IGN)" if self.deaf else "pass"
        program = f"import signal, time; {listens}; print(flush=True); time.sleep(600)"
        child = subprocess.Popen(
            [sys.executable, "-c", program],
            stdout=subprocess.PIPE,
            preexec_fn=die_with_parent(signal.SIGTERM),  # as all that is supervised
        )
        assert child.stdout
        child.stdout.readline()
        self.children[part.name] = child


def test_one_that_is_started_anew_has_not_failed(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(supervising, "END_SECONDS", 1)
    made, stop = Standing(Settings(var=tmp_path), Database(tmp_path, free_port())), Event()
    for part in made.parts():
        made.start(part)
    watching = Thread(target=made.watch, args=(stop,))
    watching.start()
    try:
        for deaf, how in ((True, signal.SIGTERM), (False, signal.SIGKILL)):
            made.deaf = deaf
            gateway, worker = made.children["gateway"], made.children["worker"]
            wishing = Thread(target=made.anew, args=("gateway",))
            wishing.start()
            wishing.join()  # and is gone, which its child must not follow
            assert gateway.returncode == -how
            assert made.children["gateway"] is not gateway and made.children["worker"] is worker
        with pytest.raises(subprocess.TimeoutExpired):
            made.children["gateway"].wait(1)
    finally:
        stop.set()
        watching.join()
        for child in made.children.values():
            child.kill()
            child.communicate()
    assert made.ended == {}  # whoever watches took it for no failure


def test_one_that_is_not_to_be_started_yet_is_started_when_it_is_wished_for(tmp_path: Path) -> None:
    made, stop = Standing(Settings(var=tmp_path), Database(tmp_path, free_port())), Event()
    made.start_all(but="worker")
    watching = Thread(target=made.watch, args=(stop,))
    watching.start()
    try:
        gateway = made.children["gateway"]
        assert "worker" not in made.children
        made.anew("worker")
        assert made.children["worker"].poll() is None and made.children["gateway"] is gateway
    finally:
        stop.set()
        watching.join()
        for child in made.children.values():
            child.kill()
            child.communicate()
    assert made.ended == {}


def test_one_that_ran_well_for_a_while_begins_to_count_anew() -> None:
    ended = Ended()
    for now in (0.0, 1.0, 2.0):
        ended.note(1, now)
        ended.began = now
    assert (ended.pause, ended.how) == (2.0, "with status 1")
    ended.note(-9, 100.0)
    assert (ended.pause, ended.times, ended.how) == (0.0, 4, "by SIGKILL")
