"""What a process writes of its own doings. Nobody's work may end because there is no room to tell of it."""

from __future__ import annotations

import sys
from contextlib import suppress

import structlog


class _Lenient:
    """Standard output, without what cannot be written to it: its file may lie on a full disk."""

    def write(self, words: str) -> None:
        with suppress(OSError):
            sys.stdout.write(words)

    def flush(self) -> None:
        with suppress(OSError):
            sys.stdout.flush()


def set_up_logs() -> None:
    """Once, at the start of a process."""
    structlog.configure(logger_factory=structlog.PrintLoggerFactory(file=_Lenient()))  # type: ignore[arg-type]
