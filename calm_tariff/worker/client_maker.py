"""Making clients: generators are programs of their own, run in a folder of their own."""

from __future__ import annotations

import json
import logging
import subprocess
import sys
import tempfile
from pathlib import Path

from calm_tariff.formats import client_packages
from calm_tariff.formats.client_packages import ClientFacts
from calm_tariff.services.admit.portals import clients
from calm_tariff.services.base.context import Context

log = logging.getLogger("calm_tariff.worker")

# For so long a generator is waited for, in seconds.
PATIENCE = 120
WEB = Path(__file__).parent.parent.parent / "web"
_TYPES = WEB / "node_modules" / "openapi-typescript" / "bin" / "cli.js"


class Unmade(Exception):
    """A generator makes nothing of a document."""


def make(ctx: Context, digest: str) -> None:
    """Make a client that is wanted, and keep it, or why there is none."""
    wanted = clients.wanted(ctx, digest)
    if wanted is None:
        return
    generate = python if wanted.language == "python" else typescript
    with tempfile.TemporaryDirectory(prefix="calm-client-") as name:
        folder = Path(name)
        document = folder / "openapi.json"
        document.write_text(json.dumps(wanted.document), encoding="utf-8")
        try:
            files = generate(folder, document, wanted.facts)
        except Unmade as reason:
            log.warning("no %s client of %s: %s", wanted.language, wanted.facts.title, reason)
            clients.fail(ctx, digest, str(reason))
            return
    clients.keep(ctx, digest, files)


def python(folder: Path, document: Path, facts: ClientFacts) -> dict[str, bytes]:
    """The files of a Python client (openapi-python-client). Raises `Unmade`."""
    settings, made = folder / "settings.yaml", folder / "made"
    settings.write_text(client_packages.python_settings(facts), encoding="utf-8")
    program = [sys.executable, "-m", "openapi_python_client", "generate", "--meta", "setup"]
    _run([*program, "--path", str(document), "--output-path", str(made), "--config", str(settings)], folder)
    found = {str(path.relative_to(made)): path.read_bytes() for path in made.rglob("*") if path.is_file()}
    if not any(name.startswith(f"{facts.module}/api/") for name in found):
        raise Unmade("the generator found no operation that it understands")
    return {
        **{name: content for name, content in found.items() if not name.startswith(".")},
        "README.md": client_packages.python_readme(facts).encode(),
    }


def typescript(folder: Path, document: Path, facts: ClientFacts) -> dict[str, bytes]:
    """The files of a TypeScript client (openapi-typescript and openapi-fetch). Raises `Unmade`."""
    types = folder / "schema.d.ts"
    _run(["node", str(_TYPES), str(document), "-o", str(types)], folder)
    files = {name: text.encode() for name, text in client_packages.typescript_files(facts).items()}
    return {**files, "schema.d.ts": types.read_bytes()}


def _run(command: list[str], folder: Path) -> None:
    try:
        done = subprocess.run(command, cwd=folder, capture_output=True, text=True, timeout=PATIENCE, check=False)
    except FileNotFoundError:
        raise Unmade(f"{Path(command[0]).name} is not installed where jobs are done") from None
    except subprocess.TimeoutExpired:
        raise Unmade(f"the generator was not done after {PATIENCE} seconds") from None
    if done.returncode != 0:
        said = (done.stderr or done.stdout).strip().replace(str(folder), "")
        raise Unmade(f"the generator refuses the document: {said[-800:] or f'exit code {done.returncode}'}")
