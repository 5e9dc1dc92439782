"""What a deployment sets, read from the environment (FOLDBARN_...)."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

from pydantic_settings import BaseSettings, SettingsConfigDict

PROJECT = Path(__file__).resolve().parents[2]


class Settings(BaseSettings):
    """All settings, with their defaults. Seconds are wall-clock seconds."""

    model_config = SettingsConfigDict(env_prefix="FOLDBARN_")

    database_url: str = "postgresql+psycopg://foldbarn@127.0.0.1:5433/foldbarn"
    yard_url: str = ""  # address of the stand-ins; empty where there are none
    mail_host: str = ""  # host:port that takes mail (SMTP); empty where there is none
    mail_from: str = "fold-barn@localhost.localdomain"
    public_url: str = ""  # where people find Fold Barn, as messages say it; empty where nobody has said
    web_folder: Path = PROJECT / "web" / "dist"
    key_file: Path = PROJECT / ".barn" / "secrets.key"  # by which secrets in the database are sealed
    instance: str = ""  # tells one barn's processes from another's
    restarts: Path | None = None  # where the house notes which of its processes it had to start again
    sign: Path | None = None  # a file that the work process touches every second, as its sign of life
    poll_seconds: float = 1.0  # between two questions to one agent
    answer_seconds: float = 2.0  # how long an agent may take to answer
    silent_seconds: float = 3.0  # without an answer for this long, a node is silent
    longest_pause_seconds: float = 4.0  # pauses between questions to a silent agent grow up to this
    look_seconds: float = 0.4  # between two looks at the copies under way
    heat_seconds: float = 30.0  # between two questions to one agent of what is asked of its extents
    sample_seconds: float = 10.0  # between two samples of what things do
    # a worker without a heartbeat for this long is gone, and its jobs are taken over
    dead_after_seconds: float = 4.0
    attempts: int = 5  # tries of a step's order before its change pauses

    @property
    def plain_database_url(self) -> str:
        """The same address for clients that know nothing of SQLAlchemy."""
        return self.database_url.replace("postgresql+psycopg://", "postgresql://")


@lru_cache
def settings() -> Settings:
    return Settings()
