"""Ports for those who look at once: none finds what another may have stopped for a moment."""

import os
import socket

import pytest

from tests import ports as module
from tests.ports import FIRST_PORT, PORTS, RUNS, free_port, run_of_its_own, take_part_of_ports


@pytest.fixture(autouse=True)
def the_ports_of_this_run(monkeypatch):
    monkeypatch.setattr(module, "_ports", module._ports)
    monkeypatch.setattr(module, "_held", [])


def test_parts_of_the_ports_have_none_in_common():
    found = []
    for part in range(3):
        take_part_of_ports(part, 3)
        found.append({free_port() for _ in range(50)})

    assert all(len(ports) == 50 for ports in found)
    assert all(FIRST_PORT <= port < FIRST_PORT + PORTS for ports in found for port in ports)
    assert not found[0] & found[1] and not found[1] & found[2] and not found[0] & found[2]


def test_a_part_that_is_used_up_begins_again_without_what_is_taken():
    take_part_of_ports(PORTS // 3 - 1, PORTS // 3)
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", of := free_port()))
        taken.listen()

        again = {free_port() for _ in range(10)}

    assert again and of not in again and len(again) <= 2


def test_each_run_beside_others_is_one_of_its_own_until_it_ends(tmp_path):
    beside = [run_of_its_own(tmp_path) for _ in range(RUNS)]
    one_more = run_of_its_own(tmp_path)

    assert sorted(beside) == list(range(RUNS)) and one_more in beside
    os.close(module._held[beside.index(3)])
    assert run_of_its_own(tmp_path) == 3
