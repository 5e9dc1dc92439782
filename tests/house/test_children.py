"""Processes that end or hang are started again, and it is written down why."""

from __future__ import annotations

import json
import signal
import sys
import time
from pathlib import Path

import pytest

from foldbarn.house import barn as house
from foldbarn.house.barn import Child
from foldbarn.services import house as reading
from foldbarn.settings import settings

LIVES = "import pathlib,time,sys\nwhile True:\n pathlib.Path(sys.argv[1]).touch()\n time.sleep(0.05)"


def child(tmp_path: Path, code: str) -> Child:
    sign = tmp_path / "sign"
    return Child("work", [sys.executable, "-c", code, str(sign)], {}, tmp_path / "log", sign)


def until(done: object, seconds: float = 120.0) -> None:
    deadline = time.monotonic() + seconds
    while not done():  # type: ignore[operator]
        assert time.monotonic() < deadline
        time.sleep(0.05)


def test_one_that_ends_is_started_again_with_the_reason(tmp_path: Path) -> None:
    one = child(tmp_path, LIVES)
    one.start()
    assert one.process
    one.process.send_signal(signal.SIGKILL)
    one.process.wait()
    until(one.look)
    assert one.why == "it was ended by signal 9"
    one.stop()
    one.wait(5)


def test_one_that_stops_showing_signs_of_life_is_started_again(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(house, "HUNG_SECONDS", 1.5)
    one = child(tmp_path, LIVES)
    one.start()
    assert one.process
    until(lambda: (tmp_path / "sign").exists())
    for _ in range(20):  # while it lives it is left alone, for longer than it may be silent
        one.note_sign()
        assert not one.look()
        time.sleep(0.1)
    first = one.process.pid
    one.process.send_signal(signal.SIGSTOP)

    def again() -> bool:
        one.note_sign()
        return one.look()

    until(again)
    assert one.why.startswith("it showed no sign of life for ")
    assert one.process.pid != first
    one.stop()
    one.wait(5)


def test_one_that_comes_up_slowly_is_given_more_time_each_time(tmp_path: Path) -> None:
    """On a machine that is too busy it would else be started anew for ever, and keep that machine busy."""
    one = child(tmp_path, "import time\nwhile True: time.sleep(9)")
    one.start()
    waited = []
    for _ in range(6):
        assert one.process
        first = one.process.pid
        patience = one.patience
        one.started_at = one.seen_at = time.monotonic() - patience + 5
        assert not one.look()
        one.started_at = one.seen_at = time.monotonic() - patience - 1
        assert one.look()
        assert one.process.pid != first
        waited.append(patience / house.HUNG_SECONDS)
    assert waited == [4, 8, 16, 32, 64, 64]
    # Once it is seen it is as any other.
    one.sign = tmp_path / "sign"
    time.sleep(0.02)
    one.sign.touch()
    one.note_sign()
    assert one.patience == house.HUNG_SECONDS
    one.stop()
    one.wait(5)


def test_restarts_are_read_back_and_shown(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    file = tmp_path / "restarts.jsonl"
    rows = [{"process": "work", "at": time.time() - 7200, "why": "it ended with code 1"}]
    rows.append({"process": "serve", "at": time.time() - 5, "why": "it was ended by signal 9"})
    file.write_text("".join(json.dumps(r) + "\n" for r in rows) + '{"process": "wo')
    monkeypatch.setenv("FOLDBARN_RESTARTS", str(file))
    settings.cache_clear()
    try:
        assert [r.process for r in reading.restarts()] == ["work", "serve"]
        assert [r.why for r in reading.recent_restarts()] == ["it was ended by signal 9"]
    finally:
        monkeypatch.undo()
        settings.cache_clear()


def test_time_in_which_the_whole_machine_stood_still_is_nobodys_silence(tmp_path: Path) -> None:
    one = child(tmp_path, LIVES)
    one.start()
    one.seen_at = one.started_at = time.monotonic() - house.HUNG_SECONDS - 50
    one.shown = True
    one.excuse(60)
    assert not one.look()  # all but ten seconds of it were ours
    one.excuse(-5)  # we woke early: that takes nothing away
    assert not one.look()
    one.seen_at -= 60
    assert one.look()
    one.stop()
    one.wait(5)
