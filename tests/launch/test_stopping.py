"""Told to stop, a process stops, at whatever it is and whichever of its threads is told."""

from __future__ import annotations

import subprocess
import sys

import pytest

BEGIN = """
import os, signal, threading, time
from calm_tariff.launch.stopping import stop_at

stop = stop_at(signal.SIGINT, signal.SIGTERM)
"""
# Told while the main thread holds what waiting for the event holds for a moment.
IN_THE_MIDST = """
with stop._cond:
    os.kill(os.getpid(), signal.{name})
    for _ in range(1000):
        pass
"""
# Told while the main thread waits, in another one: the main one is not woken.
ANOTHER_THREAD = """
waits = threading.main_thread()

def told():
    while waits.ident not in sys._current_frames() or "wait" not in sys._current_frames()[waits.ident].f_code.co_name:
        time.sleep(0.01)
    time.sleep(0.1)
    signal.pthread_kill(threading.get_ident(), signal.{name})

import sys
threading.Thread(target=told, daemon=True).start()
"""
# Another signal that is handled says nothing.
ANOTHER_SIGNAL = """
signal.signal(signal.SIGUSR1, lambda *_: None)
os.kill(os.getpid(), signal.SIGUSR1)
assert not stop.wait(0.2)
os.kill(os.getpid(), signal.{name})
"""


@pytest.mark.parametrize("name", ["SIGINT", "SIGTERM"])
@pytest.mark.parametrize("how", [IN_THE_MIDST, ANOTHER_THREAD, ANOTHER_SIGNAL])
def test_who_is_told_to_stop_stops(how: str, name: str) -> None:
    told = BEGIN + how.format(name=name) + "stop.wait()\nprint('stopped')\n"
    child = subprocess.run([sys.executable, "-c", told], capture_output=True, text=True, timeout=60, check=False)
    assert (child.stdout, child.returncode) == ("stopped\n", 0), child.stderr
