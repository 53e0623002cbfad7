"""The tariff from the command line: taken out, held against what is here, and applied."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from calm_tariff import cli
from calm_tariff.services.compose import tariff_document
from calm_tariff.services.house import service_tokens
from tests.console_api.loopback import on_loopback
from tests.office import Office


@pytest.fixture
def file(office: Office, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Path]:
    """The tariff as it is here, in a file, and an address to ask."""
    file = tmp_path / "tariff.yaml"
    with on_loopback(office) as address:
        monkeypatch.setenv("CALM_ADDRESS", address)
        monkeypatch.setenv("CALM_TOKEN", service_tokens.make_for_machine(office.ctx, "tariff", "product manager"))
        file.write_text(tariff_document.export(office.manager))
        yield file


def run(*words: str) -> int:
    return cli.main(["tariff", *words])


def in_file(file: Path, before: str, after: str) -> None:
    text = file.read_text()
    assert before in text
    file.write_text(text.replace(before, after, 1))


def test_what_is_exported_differs_in_nothing_and_a_difference_is_said_and_exits_with_1(
    file: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    assert run("export") == 0
    assert capsys.readouterr().out == file.read_text()
    assert run("diff", str(file)) == 0
    in_file(file, "amount: '40'", "amount: '45'")
    assert run("diff", str(file)) == 1
    assert capsys.readouterr().out == "Harbour Data · Ketch: Fee: €40 a month → €45 a month\n"


def test_new_terms_stay_a_draft_until_they_are_to_be_published(
    office: Office, file: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    in_file(file, "amount: '40'", "amount: '45'")
    assert run("apply", str(file)) == 0
    assert "Harbour Data · Ketch: its new terms are a draft, not published" in capsys.readouterr().out
    assert "amount: '40'" in tariff_document.export(office.manager)
    assert run("apply", str(file), "--publish", "keep") == 0
    assert "not published" not in capsys.readouterr().out
    assert tariff_document.export(office.manager) == file.read_text()


def test_what_is_wrong_is_said_in_a_line_and_nothing_changes(
    office: Office, file: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    stands = tariff_document.export(office.manager)
    in_file(file, "amount: '40'", "amount: forty")
    assert run("apply", str(file)) == 2
    assert "products[0].plans[1].terms" in capsys.readouterr().err
    assert run("diff") == 2
    assert "Say which file" in capsys.readouterr().err
    assert run("diff", str(file.with_name("none.yaml"))) == 2
    assert "cannot be read" in capsys.readouterr().err
    monkeypatch.setenv("CALM_TOKEN", service_tokens.make_for_machine(office.ctx, "other", "finance"))
    file.write_text(stands.replace("amount: '40'", "amount: '45'"))
    assert run("apply", str(file)) == 2
    assert "this is for" in capsys.readouterr().err
    assert tariff_document.export(office.manager) == stands
