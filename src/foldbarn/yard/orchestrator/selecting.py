"""Label and field selectors of the API."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterator
from typing import Any

from foldbarn.yard.orchestrator.refusing import Refused, Thing

Test = Callable[[Thing], bool]
_SET = re.compile(r"(?P<key>[^\s!=,()]+)\s+(?P<how>in|notin)\s*\((?P<values>[^()]*)\)")
_EQUAL = re.compile(r"(?P<key>[^\s!=,()]+)\s*(?P<how>==|=|!=)\s*(?P<value>[^\s!=,()]*)")
_THERE = re.compile(r"(?P<absent>!\s*)?(?P<key>[^\s!=,()]+)")


def by_labels(selector: str) -> Test:
    """Whether all requirements hold of a thing's labels. Raises Refused."""
    tests = [_label_test(part.strip()) for part in _parts(selector)]
    return lambda thing: all(test(thing["metadata"].get("labels") or {}) for test in tests)


def _parts(selector: str) -> Iterator[str]:
    """At commas, but not at those of a set."""
    return (part for part in re.split(r",(?![^(]*\))", selector) if part.strip())


def _label_test(part: str) -> Callable[[dict[str, str]], bool]:
    if found := _SET.fullmatch(part):
        key, within = found["key"], found["how"] == "in"
        values = {value.strip() for value in found["values"].split(",")}
        # A label that is not there is not in any set: so it is in none, as != holds of it.
        return lambda labels: (key in labels and labels[key] in values) == within
    if found := _EQUAL.fullmatch(part):
        key, value, same = found["key"], found["value"], found["how"] != "!="
        return lambda labels: (key in labels and labels[key] == value) == same
    if found := _THERE.fullmatch(part):
        key, there = found["key"], not found["absent"]
        return lambda labels: (key in labels) == there
    raise Refused("BadRequest", f"unable to parse requirement: {part!r}")


def by_fields(selector: str, known: Collection[str]) -> Test:
    """The same of fields, of which a kind has few that can be asked for. Raises Refused."""
    tests: list[Test] = []
    for part in _parts(selector):
        found = _EQUAL.fullmatch(part.strip())
        if found is None:
            raise Refused("BadRequest", f"invalid field selector: {part!r}")
        if found["key"] not in known:
            raise Refused("BadRequest", f"field label not supported: {found['key']}")
        tests.append(_field_test(found["key"], found["value"], same=found["how"] != "!="))
    return lambda thing: all(test(thing) for test in tests)


def _field_test(path: str, value: str, *, same: bool) -> Test:
    return lambda thing: (str(at(thing, path) or "") == value) == same


def at(thing: Thing, path: str) -> Any:
    """What stands at a path such as spec.nodeName; None where nothing does."""
    found: Any = thing
    for part in path.split("."):
        found = found.get(part) if isinstance(found, dict) else None
    return found
