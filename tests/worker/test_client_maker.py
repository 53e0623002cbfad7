"""Clients are installed as they come and call the gateway; what generators cannot read is said."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import zipfile
from collections.abc import Iterator
from pathlib import Path

import pytest
import yaml

from calm_tariff.services.admit.portals import clients
from calm_tariff.services.admit.portals.clients import Language
from calm_tariff.store.admit.client_packages import ClientPackage
from calm_tariff.store.compose.apis import ApiDocument
from calm_tariff.worker import client_maker
from tests.gateway.running import PLENTY, Running
from tests.office import Office
from tests.processes import PATIENCE, wait_for
from tests.servers import RunDatabase

ROOT = Path(__file__).parents[2]
DOCUMENT = ROOT / "calm_tariff" / "demo" / "documents" / "tides-v1.yaml"
SLUG = "harbour-data"

USES = """
from harbour_data_tides_v1 import AuthenticatedClient
from harbour_data_tides_v1.api.{group} import {operation}

client = AuthenticatedClient(base_url="{base}", token="{key}", prefix="", auth_header_name="X-API-Key")
answer = {operation}.sync_detailed("lm-01", client=client)
print(int(answer.status_code), answer.parsed.to_dict())
"""
TYPED = """import {{ createClient }} from "harbour-data-tides-v1";

const client = createClient({{ key: "{key}" }});
const {{ data, response }} = await client.GET("/stations/{{id}}", {{ params: {{ path: {{ id: "lm-01" }} }} }});
{more}
console.log(response.status, JSON.stringify(data));
"""


def describe(office: Office) -> None:
    with office.ctx.transaction() as session:
        text = json.dumps(yaml.safe_load(DOCUMENT.read_text()))
        session.add(ApiDocument(api_version_id=office.api, name="tides", text=text, imported_at=office.ctx.now))


@pytest.fixture(scope="module")
def serving(database: RunDatabase, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Running]:
    """An office that serves tides as their document says, and whose worker makes clients."""
    made = Running(database, tmp_path_factory.mktemp("clients"), PLENTY)
    describe(made.office)
    wait_for(lambda: made.get().status_code == 200)
    yield made
    made.stop()


def unpacked(running: Running, language: Language, to: Path) -> Path:
    """The package that the worker makes, as it is downloaded."""
    office, gateway = running.office, running.processes.gateway
    clients.ask(office.ctx, SLUG, office.api, gateway, language)

    def state() -> str:
        found = clients.states(office.ctx, SLUG, office.api, gateway)
        return next(s.state for s in found if s.language == language)

    assert wait_for(lambda: (s := state()) != "being made" and s) == "ready"
    name, content = clients.take(office.ctx, SLUG, office.api, gateway, language)
    (to / name).write_bytes(content)
    with zipfile.ZipFile(to / name) as archive:
        archive.extractall(to)
    return to / "harbour-data-tides-v1"


def run(*command: str | Path, cwd: Path, **more: str) -> str:
    done = subprocess.run(
        [str(part) for part in command],
        cwd=cwd,
        env={**os.environ, **more},
        capture_output=True,
        text=True,
        timeout=PATIENCE,
        check=False,
    )
    assert done.returncode == 0, f"{done.stdout}\n{done.stderr}"
    return done.stdout


def test_a_python_client_installs_type_checks_and_calls_the_gateway(serving: Running, tmp_path: Path) -> None:
    package, site = unpacked(serving, "python", tmp_path), tmp_path / "site"
    pip = (sys.executable, "-m", "pip", "install", "-q", "--no-deps", "--no-index", "--no-build-isolation")
    run(*pip, "--target", site, package, cwd=tmp_path)
    api = site / "harbour_data_tides_v1" / "api"
    (module,) = [p for p in api.glob("*/*.py") if "station" in p.stem and "list" not in p.stem]
    uses = USES.format(
        group=module.parent.name,
        operation=module.stem,
        base=f"{serving.processes.gateway}/tides/v1",
        key=serving.caller.secret,
    )
    (tmp_path / "uses.py").write_text(uses)
    said = run(sys.executable, "uses.py", cwd=tmp_path, PYTHONPATH=str(site))
    assert said.startswith("200 {") and "'lm-01'" in said
    run(sys.executable, "-m", "mypy", "--cache-dir", tmp_path / "mypy", site / "harbour_data_tides_v1", cwd=tmp_path)


def test_a_typescript_client_installs_type_checks_and_calls_the_gateway(serving: Running, tmp_path: Path) -> None:
    unpacked(serving, "typescript", tmp_path)
    modules = ROOT / "web" / "node_modules"
    for needed in ("openapi-fetch", "openapi-typescript-helpers"):  # as they would be fetched
        shutil.copytree(modules / needed, tmp_path / "node_modules" / needed)
    (tmp_path / "package.json").write_text('{"name": "uses", "private": true, "type": "module"}')
    run("npm", "install", "--offline", "--no-audit", "--no-fund", "./harbour-data-tides-v1", cwd=tmp_path)
    typed = TYPED.format(key=serving.caller.secret, more="")
    (tmp_path / "uses.mjs").write_text(typed)
    said = run("node", "uses.mjs", cwd=tmp_path)
    assert said.startswith("200 {") and '"lm-01"' in said

    def checked(more: str) -> None:
        (tmp_path / "uses.ts").write_text(TYPED.format(key="k", more=more))
        options = {"strict": True, "noEmit": True, "target": "es2022", "module": "nodenext", "types": []}
        (tmp_path / "tsconfig.json").write_text(json.dumps({"compilerOptions": options, "files": ["uses.ts"]}))
        run("node", modules / "typescript" / "bin" / "tsc", "-p", ".", cwd=tmp_path)

    checked("const name: string | undefined = data?.id;")
    with pytest.raises(AssertionError, match="TS2339"):
        checked("data?.nothing_of_the_kind;")
    with pytest.raises(AssertionError, match="TS2554"):
        checked('client.GET("/nowhere");')


def test_what_a_generator_cannot_read_is_said_and_no_job_is_tried_for_ever(office: Office) -> None:
    describe(office)
    clients.ask(office.ctx, SLUG, office.api, "http://gw.example", "python")
    with office.ctx.transaction() as session:
        package = session.query(ClientPackage).one()
        package.document = json.dumps({"openapi": "3.0.3", "info": {}, "paths": {"/a": 7}})
        digest = package.digest
    client_maker.make(office.ctx, digest)
    state = clients.states(office.ctx, SLUG, office.api, "http://gw.example")[0]
    assert state.state == "failed" and state.why
    client_maker.make(office.ctx, "0" * 64)  # nobody wants it any more
