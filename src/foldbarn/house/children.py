"""Child processes that end with their parent, whatever ends it."""

from __future__ import annotations

import ctypes
import signal

PR_SET_PDEATHSIG = 1
_libc = ctypes.CDLL(None, use_errno=True)


def die_with_parent() -> None:
    """Between fork and exec: ask the kernel to end this child when the thread that started it ends (Linux's
    prctl).
    """
    _libc.prctl(PR_SET_PDEATHSIG, signal.SIGTERM)
