"""Packages of clients: names that install, files that hold what they are given, archives that stay the same."""

from __future__ import annotations

import io
import json
import re
import subprocess
import zipfile
from dataclasses import replace
from pathlib import Path

import pytest

from calm_tariff.core.errors import Invalid
from calm_tariff.formats import client_packages
from calm_tariff.formats.client_packages import OPENAPI_FETCH, ClientFacts

FACTS = ClientFacts(
    name="harbour-data-tides-v2",
    title="Harbour Data: Tides v2",
    base="https://gw.example/tides/v2",
    key_header="X-API-Key",
)
ODD = replace(FACTS, base='https://gw.example/a"b\\c', key_header='X-"Key', headers={"Api-Version": '2"; alert(1)//'})


@pytest.mark.parametrize(
    ("parts", "name"),
    [
        (("harbour-data", "Tides v2"), "harbour-data-tides-v2"),
        (("Sea Watch!", "Sea State 1.0"), "sea-watch-sea-state-1-0"),
        (("3d", "v1"), "api-3d-v1"),
        (("海", "潮"), "api"),
        (("x" * 80, "v1"), "x" * 60),
    ],
)
def test_a_name_is_one_that_packages_have(parts: tuple[str, ...], name: str) -> None:
    made = client_packages.package_name(*parts)
    assert made == name and re.fullmatch(r"[a-z]([a-z0-9-]*[a-z0-9])?", made)
    assert replace(FACTS, name=made).module.isidentifier()


def test_older_documents_are_refused_with_what_they_are() -> None:
    client_packages.refuse_older({"openapi": "3.1.0"})
    for document, words in (({"swagger": "2.0"}, "this one is 2.0"), ({}, "of no version")):
        with pytest.raises(Invalid, match=words):
            client_packages.refuse_older(document)


def test_the_front_end_calls_with_the_same(tmp_path: Path) -> None:
    manifest = json.loads((Path(__file__).parents[2] / "web" / "package.json").read_text())
    assert manifest["dependencies"]["openapi-fetch"] == OPENAPI_FETCH


def test_what_is_given_stands_in_the_program_as_it_is(tmp_path: Path) -> None:
    program = client_packages.typescript_files(ODD)["index.js"]
    said = re.sub(r"^import .*$", "", program, flags=re.M).replace("export ", "")
    said += "\nconsole.log(JSON.stringify([ADDRESS, KEY_HEADER, ALWAYS]));"
    done = subprocess.run(["node", "-e", said], capture_output=True, text=True, check=True)
    assert json.loads(done.stdout) == [ODD.base, ODD.key_header, dict(ODD.headers)]


def test_an_archive_is_the_same_for_the_same_files() -> None:
    files = {"b/c.txt": b"2", "a.txt": b"1"}
    made = client_packages.zipped("folder", files)
    assert made == client_packages.zipped("folder", dict(reversed(files.items())))
    with zipfile.ZipFile(io.BytesIO(made)) as archive:
        assert {name: archive.read(name) for name in archive.namelist()} == {
            "folder/a.txt": b"1",
            "folder/b/c.txt": b"2",
        }


def test_how_to_begin_says_what_the_product_takes() -> None:
    bare = replace(FACTS, key_header="")
    with_key, without = client_packages.python_readme(FACTS), client_packages.python_readme(bare)
    assert 'auth_header_name="X-API-Key"' in with_key and "auth_header_name" not in without
    assert "headers={'Api-Version':" in client_packages.python_readme(ODD)
    assert 'authorization: "Bearer' in client_packages.typescript_files(bare)["README.md"]
