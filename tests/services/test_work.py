"""The work process as a whole: what goes on beside its changes."""

from __future__ import annotations

import asyncio
import sys
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress

import pytest
import structlog
from conftest import Site

from foldbarn import work
from foldbarn.changes.engine.runner import ending
from foldbarn.logs import set_up_logs
from foldbarn.services.watching import Watch


def test_a_watch_that_breaks_ends_the_process_so_that_it_is_started_again(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    ended_before = []

    async def breaks(self: Watch) -> None:
        for _ in range(
            20
        ):  # whoever has nothing to do, as without a file to give signs by, has ended by then
            await asyncio.sleep(0)
        ended_before.append(ending.is_set())
        raise RuntimeError("it breaks")

    monkeypatch.setattr(Watch, "run", breaks)
    monkeypatch.setattr(asyncio.SelectorEventLoop, "add_signal_handler", lambda *_: None)
    try:
        # In a thread of its own: in this one a browser's loop may be running.
        with ThreadPoolExecutor() as aside, pytest.raises(RuntimeError, match="it breaks"):
            aside.submit(lambda: asyncio.run(work.work())).result(480)
        assert ended_before == [False]
        assert ending.is_set()  # its changes leave off at once, and go on in the next process
    finally:
        ending.clear()


def test_what_went_wrong_is_written_plainly(capsys: pytest.CaptureFixture[str]) -> None:
    """Frames and colours around it took longer than the work that failed."""
    try:
        set_up_logs()
        try:
            raise ZeroDivisionError("nothing to share")
        except ZeroDivisionError:
            structlog.get_logger().exception("it failed", change=7)
        told = capsys.readouterr().out
    finally:
        structlog.reset_defaults()
    assert "it failed" in told
    assert "change=7" in told
    assert "ZeroDivisionError: nothing to share" in told
    assert told.isascii()
    assert "\x1b" not in told


def test_nobodys_work_ends_because_there_is_no_room_to_tell_of_it(monkeypatch: pytest.MonkeyPatch) -> None:
    full = open("/dev/full", "w")  # noqa: SIM115  (every write to it finds no room: Linux, full(4))
    try:
        monkeypatch.setattr(sys, "stdout", full)
        with pytest.raises(OSError, match="No space left"):
            structlog.PrintLogger(full).info("lost")
        set_up_logs()
        structlog.get_logger().error("no room left")
    finally:
        monkeypatch.undo()
        structlog.reset_defaults()
        with suppress(OSError):
            full.close()
