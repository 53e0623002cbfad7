"""What an installation costs at which nobody calls: its share of a core, beside a bare server that nobody asks."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Sequence
from pathlib import Path

from calm_tariff.launch.children import die_with_parent
from tests.ports import free_port
from tests.processes import answers, wait_for

ROOT = Path(__file__).parents[1]
PORTS = ("WEB", "GATEWAY", "STANDINS", "MAIL", "DATABASE", "METRICS", "DECISIONS")
# What is done once, at the start, is not what is asked about.
SETTLING, WATCHED = 30.0, 120.0
_BARE = "import uvicorn; uvicorn.run(lambda *_: None, port={port}, log_config=None, lifespan='off')"
_TICKS = os.sysconf("SC_CLK_TCK")


def measure() -> dict[str, float]:
    """The share of a core in percent, of the installation with its database and of the bare server."""
    with tempfile.TemporaryDirectory() as folder:
        Path(folder).chmod(0o755)  # the database may run as a user of its own
        ports = {f"CALM_{name}_PORT": str(free_port()) for name in PORTS}
        more = {"PYTHONPATH": str(ROOT), "CALM_VAR": f"{folder}/var", **ports}
        command = [sys.executable, "-m", "calm_tariff.cli", "start"]
        bare = _started([sys.executable, "-c", _BARE.format(port=free_port())], {})
        whole = _started(command, more)
        try:
            wait_for(lambda: answers(f"http://127.0.0.1:{ports['CALM_WEB_PORT']}/healthz"), 300)
            time.sleep(SETTLING)
            before, began = (_used(whole.pid), _used(bare.pid)), time.monotonic()
            time.sleep(WATCHED)
            after, took = (_used(whole.pid), _used(bare.pid)), time.monotonic() - began
        finally:
            for process in (whole, bare):
                process.terminate()
                process.wait()
    shares = [100 * (now - then) / took for now, then in zip(after, before, strict=True)]
    return {"whole": shares[0], "bare": shares[1]}


def _started(command: Sequence[str], more: dict[str, str]) -> subprocess.Popen[bytes]:
    quiet = subprocess.DEVNULL
    prepare = die_with_parent(signal.SIGTERM)
    return subprocess.Popen(command, env={**os.environ, **more}, stdout=quiet, stderr=quiet, preexec_fn=prepare)


def _used(pid: int) -> float:
    """Seconds of a core that a process and all it started have used."""
    told = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    children = Path(f"/proc/{pid}/task").glob("*/children")
    own = (int(told[11]) + int(told[12])) / _TICKS
    return own + sum(_used(int(child)) for path in children for child in path.read_text().split())


if __name__ == "__main__":
    found = measure()
    print(f"nobody calls: {found['whole']:.2f}% of a core; a bare server {found['bare']:.2f}%")
