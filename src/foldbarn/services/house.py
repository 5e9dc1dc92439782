"""Reading how Fold Barn's own processes fare, as the house that runs them has noted it."""

from __future__ import annotations

import json
import time
from collections import deque
from dataclasses import dataclass

from foldbarn.settings import settings

MOST = 50  # restarts that are read
RECENT_SECONDS = 3600.0


@dataclass(frozen=True, slots=True)
class Restart:
    """A process of our own that was started again. at: seconds since 1970; why: as part of a sentence."""

    process: str
    at: float
    why: str


def restarts() -> list[Restart]:
    """The last of them, oldest first; none where nobody notes them."""
    file = settings().restarts
    if file is None or not file.is_file():
        return []
    with file.open() as lines:
        last = deque(lines, maxlen=MOST)
    found = []
    for line in last:
        try:
            said = json.loads(line)
            found.append(Restart(str(said["process"]), float(said["at"]), str(said["why"])))
        except (ValueError, KeyError, TypeError):
            continue  # a line that was being written
    return found


def recent_restarts() -> list[Restart]:
    """Those of the last hour."""
    return [r for r in restarts() if r.at > time.time() - RECENT_SECONDS]
