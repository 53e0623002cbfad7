from __future__ import annotations

import subprocess
import sys

import pytest

# Told to stop while the main thread holds what waiting for the event holds for a moment.
IN_THE_MIDST = """
import os, signal
from calm_tariff.launch.stopping import stop_at

stop = stop_at(signal.SIGINT, signal.SIGTERM)
with stop._cond:
    os.kill(os.getpid(), signal.{name})
    for _ in range(1000):
        pass
stop.wait()
print("stopped")
"""


@pytest.mark.parametrize("name", ["SIGINT", "SIGTERM"])
def test_a_signal_that_comes_in_the_midst_of_waiting_stops_too(name: str) -> None:
    child = subprocess.run(
        [sys.executable, "-c", IN_THE_MIDST.format(name=name)], capture_output=True, text=True, timeout=60, check=False
    )
    assert (child.stdout, child.returncode) == ("stopped\n", 0), child.stderr
