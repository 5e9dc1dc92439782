"""Storage classes: under what name claims ask for a policy, and what they get with it (storage.k8s.io/v1,
StorageClass).
"""

from __future__ import annotations

import re
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from difflib import get_close_matches
from enum import StrEnum
from functools import lru_cache

from foldbarn.core.errors import NotPossible
from foldbarn.core.hosts.attachments import FileSystem

# A subdomain of RFC 1123: labels of small letters, digits and hyphens, which begin and end with neither
# hyphen.
_SUBDOMAIN = re.compile(r"[a-z0-9]([-a-z0-9]*[a-z0-9])?(\.[a-z0-9]([-a-z0-9]*[a-z0-9])?)*")
LONGEST_NAME = 253


class Reclaim(StrEnum):
    """What becomes of a volume when its claim is deleted."""

    DELETE = "Delete"
    RETAIN = "Retain"


class BindingMode(StrEnum):
    """When a claim gets its volume."""

    AT_ONCE = "Immediate"
    LATE = "WaitForFirstConsumer"  # when a pod uses it, and is to run somewhere


@dataclass(frozen=True, slots=True)
class StorageClass:
    """policy: by number; pool: by number, None for whichever takes it best. expands: whether claims may grow.
    default: whether claims that name no class get this one.
    """

    name: str
    policy: int
    pool: int | None = None
    reclaim: Reclaim = Reclaim.DELETE
    binding: BindingMode = BindingMode.AT_ONCE
    expands: bool = True
    file_system: FileSystem = FileSystem.XFS
    mount_options: tuple[str, ...] = ()
    default: bool = False
    number: int = 0


def check_class_name(name: str, taken: Collection[str]) -> str:
    """The name, if a class can have it. Raises NotPossible."""
    if len(name) > LONGEST_NAME or not _SUBDOMAIN.fullmatch(name):
        raise NotPossible(
            f"No class can be called '{name}'.",
            about="name",
            next_step="Use small letters, digits, hyphens and dots; begin and end with a letter or digit.",
        )
    if name in taken:
        raise NotPossible(f"There is a class called {name} already.", about="name")
    return name


_LABEL = re.compile(r"[a-z0-9]([-a-z0-9]*[a-z0-9])?")
LONGEST_LABEL = 63
_OPTION = re.compile(r"[!-+\--~]+")  # printed characters but the comma, by which they are put together


def check_namespace(name: str) -> str:
    """The name, if a namespace can have it: a label of RFC 1123 in small letters. Raises NotPossible."""
    if len(name) > LONGEST_LABEL or not _LABEL.fullmatch(name):
        raise NotPossible(
            f"No namespace can be called '{name}'." if name else "Which namespace is it for?",
            about="namespace",
            next_step="Use small letters, digits and hyphens; begin and end with a letter or digit.",
        )
    return name


def check_mount_options(options: Sequence[str]) -> tuple[str, ...]:
    """The options, trimmed. Raises NotPossible."""
    found = tuple(option.strip() for option in options if option.strip())
    for option in found:
        if not _OPTION.fullmatch(option):
            raise NotPossible(
                f"'{option}' is not one mount option.",
                about="mount_options",
                next_step="Give each by itself, such as noatime, without spaces and commas.",
            )
    return found


def nearest(name: str, names: Collection[str]) -> str:
    """Which of these was likely meant; empty where none is near."""
    return _nearest(name, tuple(sorted(names)))


@lru_cache(maxsize=1000)  # of thousands that wait many name the same
def _nearest(name: str, names: tuple[str, ...]) -> str:
    return next(iter(get_close_matches(name, names, n=1)), "")


def default_of(classes: Sequence[StorageClass]) -> StorageClass | None:
    """The one that claims get which name none; None where there is none, or several say they are."""
    marked = [one for one in classes if one.default]
    return marked[0] if len(marked) == 1 else None
