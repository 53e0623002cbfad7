"""A task of the gateway that dies is begun again, and calls and the other tasks do not notice."""

from __future__ import annotations

import asyncio

from calm_tariff.gateway.tasks import Tasks
from tests.processes import awaited


def test_a_task_that_dies_or_ends_is_begun_again_and_counted() -> None:
    async def story() -> tuple[Tasks, list[str]]:
        tasks, said = Tasks(pause=0.0), []
        well, other_well = asyncio.Event(), asyncio.Event()

        async def dies() -> None:
            said.append("begun")
            if len(said) == 1:
                raise ValueError("a malformed answer\nof two lines")
            if len(said) == 2:
                return
            well.set()
            await asyncio.Event().wait()

        async def other() -> None:
            other_well.set()
            await asyncio.Event().wait()

        tasks.begin("follow", dies)
        tasks.begin("report", other)
        await asyncio.gather(well.wait(), other_well.wait())
        await tasks.end()
        return tasks, said

    tasks, said = awaited(story())
    assert dict(tasks.died) == {"follow": 2} and said == ["begun"] * 3


def test_what_is_told_to_end_is_not_begun_again_and_what_it_held_is_let_go() -> None:
    async def story() -> tuple[Tasks, list[str]]:
        tasks, said = Tasks(pause=0.0), []
        begun = asyncio.Event()

        async def works() -> None:
            try:
                begun.set()
                await asyncio.Event().wait()
            finally:
                said.append("let go")

        tasks.begin("follow", works)
        await begun.wait()
        await tasks.end()
        return tasks, said

    tasks, said = awaited(story())
    assert (dict(tasks.died), said) == ({}, ["let go"])
