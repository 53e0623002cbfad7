"""Processes of a run of the tests end with it, however it ends."""

import os
import subprocess
import sys
from pathlib import Path

from tests.ports import free_port
from tests.processes import ROOT, wait_for

RUN = """
import os, sys, time
from tests.forked import Forked
print(Forked("worker", dict(os.environ)).pid, flush=True)
time.sleep(3600)
"""


def test_what_a_run_started_ends_when_it_is_killed(tmp_path: Path) -> None:
    nowhere = f"mysql+pymysql://nobody@127.0.0.1:{free_port()}/none"
    environment = {**os.environ, "PYTHONPATH": str(ROOT), "CALM_VAR": str(tmp_path), "CALM_DATABASE_URL": nowhere}
    with subprocess.Popen([sys.executable, "-c", RUN], env=environment, stdout=subprocess.PIPE, text=True) as run:
        assert run.stdout
        worker = Path("/proc", run.stdout.readline().strip())
        assert worker.exists()
        run.kill()
    wait_for(lambda: not worker.exists())
