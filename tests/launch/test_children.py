"""Ports for those who look at once: none finds what another may have stopped for a moment."""

import socket

import pytest

from calm_tariff.launch import children
from calm_tariff.launch.children import FIRST_PORT, PORTS, free_port, take_part_of_ports


@pytest.fixture(autouse=True)
def the_ports_of_this_run(monkeypatch):
    monkeypatch.setattr(children, "_ports", children._ports)


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
