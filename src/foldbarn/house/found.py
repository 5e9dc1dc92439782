"""Brings a state folder's database up to date and makes sure that there is a site. Runs as a process of its
own.

A separate process, because settings and connections are kept for a process's life.
"""

from __future__ import annotations

import os

from foldbarn.store.founding import found_site
from foldbarn.store.migrate import migrate


def main() -> None:
    migrate()
    found_site(
        os.environ.get("FOLDBARN_SITE", "Skerry Ferries"),
        os.environ.get("FOLDBARN_OPERATOR", "Ines Marrow"),
        float(os.environ.get("FOLDBARN_GRACE_SECONDS", "30")),
    )


if __name__ == "__main__":
    main()
