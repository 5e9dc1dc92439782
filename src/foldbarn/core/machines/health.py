"""Health of a disk from its own figures: what says that it is failing, and what says that someone should
look.

Sources: NVM Express Base Specification, SMART / Health Information log (critical warning bits 0 to 5,
available spare and its threshold, percentage used, which may exceed 100); ATA attributes by their customary
numbers 5, 197 and 198; DMTF Redfish Drive (FailurePredicted, PredictedMediaLifeLeftPercent, MediaType).
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

REALLOCATED, PENDING, UNCORRECTABLE = 5, 197, 198  # ATA attribute numbers
WORN_PERCENT = 90  # of the rated life: from here on someone should plan a replacement; common practice

# Bit of the NVMe critical warning -> what it says, and whether a disk that says it may still be given data.
CRITICAL_BITS: dict[int, tuple[str, bool]] = {
    0: ("its spare blocks are below the threshold", True),
    1: ("its temperature is out of range", True),
    2: ("its reliability is degraded by media or internal errors", False),
    3: ("its media are read-only", False),
    4: ("its volatile memory backup has failed", False),
    5: ("its persistent memory region is read-only or unreliable", True),
}


class Grade(StrEnum):
    """How healthy a disk is, by what it says of itself; whether it is used is another matter."""

    GOOD = "good"
    WARNING = "warning"
    BAD = "bad"
    UNKNOWN = "unknown"


@dataclass(frozen=True, slots=True)
class Health:
    """What a disk says of itself. passed: the disk's own overall judgement, None where it gives none; spare
    values in per cent; hours: that it has run; temperature: in degrees Celsius; both None where it tells
    none.
    """

    passed: bool | None = None
    reallocated: int = 0
    pending: int = 0
    uncorrectable: int = 0
    percentage_used: int = 0
    critical_warning: int = 0
    spare: int | None = None
    spare_threshold: int | None = None
    failure_predicted: bool = False  # by the node's BMC
    hours: int | None = None
    temperature: int | None = None

    def facts(self) -> list[tuple[str, str]]:
        """What of it is worth reading, in words: what is told of, and what is said. What a disk does not tell
        is left out.
        """
        tests = {True: "passed", False: "failing", None: None}
        found = [
            ("Its own test", tests[self.passed]),
            ("Has run", None if self.hours is None else f"{self.hours:,} h"),
            ("Temperature", None if self.temperature is None else f"{self.temperature} °C"),
            ("Rated life used", f"{self.percentage_used} %" if self.percentage_used else None),
            ("Spare blocks left", None if self.spare is None else f"{self.spare} %"),
        ]
        sectors = (self.reallocated, self.pending, self.uncorrectable)
        if self.passed is not None or any(sectors):
            words = ("reallocated", "pending", "uncorrectable")
            said = ", ".join(f"{n:,} {w}" for n, w in zip(sectors, words, strict=True))
            found.append(("Sectors", said))
        return [(what, said) for what, said in found if said is not None]

    def grade(self) -> tuple[Grade, list[str]]:
        """With the figures behind it, as phrases; none where all is well, or nothing is told."""
        failing, watch = self.failing(), self.watch()
        if failing:
            return Grade.BAD, [*failing, *watch]
        if watch:
            return Grade.WARNING, watch
        return (Grade.GOOD if self.facts() else Grade.UNKNOWN), []

    def failing(self) -> list[str]:
        """Why the disk must not be given data."""
        found = []
        if self.passed is False:
            found.append("its own health test says it is failing")
        if self.failure_predicted:
            found.append("its node's BMC predicts that it will fail")
        found += [
            words
            for bit, (words, usable) in CRITICAL_BITS.items()
            if self.critical_warning >> bit & 1 and not usable
        ]
        return found

    def watch(self) -> list[str]:
        """Why someone should look at a disk that works."""
        found = [
            f"{count:,} {words}"
            for count, words in (
                (self.reallocated, "sectors reallocated"),
                (self.pending, "sectors pending"),
                (self.uncorrectable, "sectors uncorrectable"),
            )
            if count > 0
        ]
        found += [
            words
            for bit, (words, usable) in CRITICAL_BITS.items()
            if self.critical_warning >> bit & 1 and usable
        ]
        if (
            self.spare is not None
            and self.spare_threshold is not None
            and self.spare < self.spare_threshold
            and not self.critical_warning & 1
        ):
            found.append(
                f"{self.spare} % of its spare blocks left, below its threshold of {self.spare_threshold} %"
            )
        if self.percentage_used >= 100:
            found.append(f"{self.percentage_used} % of its rated life used: past what its maker promises")
        elif self.percentage_used >= WORN_PERCENT:
            found.append(f"{self.percentage_used} % of its rated life used")
        return found
