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
    """Once, at the start of a process. What went wrong is written as it is: drawing it would take longer than
    the work that failed, where that is tried again and again.
    """
    plainly = structlog.dev.ConsoleRenderer(colors=False, exception_formatter=structlog.dev.plain_traceback)
    structlog.configure(
        processors=[
            structlog.contextvars.merge_contextvars,
            structlog.processors.add_log_level,
            structlog.dev.set_exc_info,
            structlog.processors.TimeStamper(fmt="%Y-%m-%d %H:%M:%S", utc=False),
            plainly,
        ],
        logger_factory=structlog.PrintLoggerFactory(file=_Lenient()),  # type: ignore[arg-type]
    )
