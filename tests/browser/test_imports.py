"""A file of consumers with bad rows: what is good is brought in, the rest is taken along with why, put right, and taken
in again."""

from __future__ import annotations

import csv
from pathlib import Path

from playwright.sync_api import Locator, Page, expect

from tests.browser.conftest import People
from tests.browser.test_views import serious

HEAD = ["Organisation", "Owner", "Email", "Address", "Country", "Tax number"]
ROWS = [
    ["Mollusc & Sons", "Vera Concha", "vera@mollusc.example", "Rua da Ria 4 | 9010-007 Larkmouth", "PT", ""],
    ["Weir Keepers", "Rui Salto", "no address", "", "", ""],
    ["Gannet Ferries", "Eva Mar", "eva@ferries-again.example", "", "", ""],
    ["Gatehouse", "Eva Mar", "eva@gate.example", "", "PT", "501964844"],
    ["mollusc & sons", "Vera Concha", "other@mollusc.example", "", "", ""],
    ["Quoin Stone", "Ivo Cais", "ivo@quoin.example", "", "", ""],
]


def take(page: Page, path: Path, kind: str) -> None:
    page.goto("/admit/imports")
    page.get_by_role("button", name="Take a file in").click()
    dialog = page.get_by_role("dialog", name="Take a file in")
    dialog.get_by_role("combobox", name="It is a file of").select_option(label=kind)
    dialog.get_by_label("From a file").set_input_files(path)
    assert serious(page) == []
    dialog.get_by_role("button", name="Check its rows").click()
    expect(page.get_by_role("heading", name=path.name)).to_be_visible()


def row(page: Page, line: int) -> Locator:
    return page.get_by_role("row").filter(has=page.get_by_role("cell", name=str(line), exact=True))


def written(path: Path, *lines: list[str]) -> Path:
    with path.open("w", newline="", encoding="utf-8") as file:
        csv.writer(file).writerows(lines)
    return path


def test_bad_rows_are_told_and_the_rest_is_brought_in(people: People, tmp_path: Path) -> None:
    ines = people.staff("Ines")
    ines.goto("/admit/consumers")
    ines.get_by_role("link", name="bring some in from a file").click()
    expect(ines.get_by_role("heading", name="From files")).to_be_visible()
    take(ines, written(tmp_path / "customers.csv", HEAD, *ROWS), "consumers, with their owners")
    standing = ines.get_by_role("region", name="How it stands")
    expect(standing).to_contain_text("2 can be brought in. 4 cannot be")
    for line, why in (
        (3, "email: is not an e-mail address"),
        (4, "organisation: this organisation, or one whose name looks the same, has an account"),
        (5, "tax_number: is no tax number of Portugal"),
        (6, "says the same as line 2"),
    ):
        expect(row(ines, line)).to_contain_text(why)
    expect(row(ines, 2)).to_contain_text("can be brought in")
    assert ines.request.get("/api/v1/consumers?words=Quoin").json()["total"] == 0  # nothing is made as yet
    assert serious(ines) == []
    standing.get_by_role("button", name="Bring in 2 consumers").click()
    expect(standing).to_contain_text("2 were made. 4 were left out")
    expect(row(ines, 2)).to_contain_text("made: its account is made, and let in")
    with ines.expect_download() as taken:
        standing.get_by_role("link", name="take them along, with why").click()
    with Path(taken.value.path()).open(newline="", encoding="utf-8") as file:
        left = list(csv.reader(file))
    assert left[0][:4] == ["why", "organisation", "owner", "email"] and len(left) == 5

    left[1][3] = "rui@weir.example"  # put right, and taken in again with the one that cannot be
    take(ines, written(tmp_path / "again.csv", left[0], left[1], left[2]), "consumers, with their owners")
    expect(standing).to_contain_text("1 can be brought in. 1 cannot be")
    standing.get_by_label("and write to each, to set a password").uncheck()
    standing.get_by_role("button", name="Bring in 1 consumer").click()
    expect(standing).to_contain_text("1 was made. 1 was left out")
    row(ines, 2).get_by_role("link", name="see it").click()
    expect(ines.get_by_role("heading", name="Weir Keepers")).to_be_visible()
    expect(ines.get_by_text("Rui Salto, owner")).to_be_visible()
    expect(ines.get_by_role("region", name="Letters")).to_contain_text("Nothing was written to its members yet.")


def test_a_file_of_another_shape_is_refused_with_what_is_wrong_with_it(people: People, tmp_path: Path) -> None:
    ines = people.staff("Ines")
    ines.goto("/admit/imports")
    ines.get_by_role("button", name="Take a file in").click()
    dialog = ines.get_by_role("dialog", name="Take a file in")
    dialog.get_by_role("combobox", name="It is a file of").select_option(label="members of consumers")
    dialog.get_by_label("Or paste its text").fill("organisation,name,age\nQuoin Stone,Uta,40\n")
    dialog.get_by_role("button", name="Check its rows").click()
    why = "Has a column 'age', which members have not; they have organisation, name, email, role"
    expect(dialog).to_contain_text(why)
