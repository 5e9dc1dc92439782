"""News for open pages: numbered, so that a page which was away learns what it missed, and gathered in sets,
so that none is lost.
"""

from __future__ import annotations

import asyncio

import pytest
from conftest import run_async

from foldbarn.api.events import EVERYTHING, REMEMBERED, Listener


def heard(listener: Listener, last: str | None, count: int = 1) -> list[tuple[str, list[str]]]:
    """The first events that a page gets: their ids and topics."""

    async def read() -> list[tuple[str, list[str]]]:
        found = []
        events = listener.events(last)
        async for event in events:
            found.append((str(event.id), event.data["topics"]))
            if len(found) == count:
                break
        await events.aclose()  # type: ignore[attr-defined]
        return found

    async def bounded() -> list[tuple[str, list[str]]]:
        async with asyncio.timeout(60):
            return await read()

    found: list[tuple[str, list[str]]] = run_async(bounded())
    return found


@pytest.fixture
def listener() -> Listener:
    found = Listener()
    found.tell([EVERYTHING])
    return found


def test_a_new_page_reads_everything_and_one_that_comes_back_what_it_missed(listener: Listener) -> None:
    ((first, topics),) = heard(listener, None)
    assert topics == [EVERYTHING]
    listener.tell(["site", "changes"])
    listener.tell(["site"])
    ((second, topics),) = heard(listener, first)
    assert topics == ["changes", "site"]
    ((_, topics),) = heard(listener, second)
    assert topics == []


@pytest.mark.parametrize("last", ["", "nonsense", "deadbeef-1", "-", "x-99", "999999999999999999999999"])
def test_a_number_of_another_process_or_none_means_everything(listener: Listener, last: str) -> None:
    assert listener.missed(last) == {EVERYTHING}
    epoch = heard(listener, None)[0][0].partition("-")[0]
    assert listener.missed(f"{epoch}-{last}") == {EVERYTHING}
    assert listener.missed(f"{epoch}-2") == {EVERYTHING}  # it has not been told yet
    assert listener.missed(f"{epoch}-1") == set()


def test_one_that_was_away_for_too_long_reads_everything_again(listener: Listener) -> None:
    ((first, _),) = heard(listener, None)
    for _ in range(REMEMBERED - 1):
        listener.tell(["work"])
    assert listener.missed(first) == {"work"}
    listener.tell(["work", "work"])
    assert listener.missed(first) == {EVERYTHING}


def test_a_page_that_reads_slowly_is_told_every_topic_once() -> None:
    """However much happens while it does not read, the topic that matters is not dropped."""

    async def slow() -> list[list[str]]:
        listener = Listener()
        listener.tell([EVERYTHING])
        events = listener.events()
        told = [(await anext(events)).data["topics"]]
        for _ in range(5000):
            listener.tell(["work"])
        listener.tell(["site"])
        told.append((await anext(events)).data["topics"])
        await events.aclose()  # type: ignore[attr-defined]
        return told

    assert run_async(slow()) == [[EVERYTHING], ["site", "work"]]
