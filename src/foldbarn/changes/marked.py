"""YAML as plain values with the line of each, read in one pass and bounded before anything is built.

Scalars mean what YAML 1.2's core schema says (yaml.org/spec/1.2.2, 10.3), so that `no` and `on` are text; but
that numbers with leading zeros or a point are text too, as bays, serial numbers and names are written so.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from typing import Any

import yaml
from yaml.events import (
    AliasEvent,
    CollectionStartEvent,
    MappingEndEvent,
    NodeEvent,
    ScalarEvent,
    SequenceEndEvent,
)

MOST_CHARACTERS = 4_000_000
MOST_VALUES = 300_000  # scalars and collections; a site of 1,000 nodes with 12 disks each has some 200,000
DEEPEST = 16  # a site's text nests ten deep
MOST_KEYS = 64  # of one mapping; none that is known has as many

_INT = re.compile(r"[-+]?(?:0|[1-9][0-9]{0,39})", re.ASCII)
_HEX = re.compile(r"0x[0-9a-fA-F]{1,32}", re.ASCII)
_WORDS: dict[str, Any] = {
    **dict.fromkeys(("", "~", "null", "Null", "NULL")),
    **dict.fromkeys(("true", "True", "TRUE"), True),
    **dict.fromkeys(("false", "False", "FALSE"), False),
}


class Unreadable(Exception):
    """What is wrong with a text, and in which line (from 1)."""

    def __init__(self, line: int, sentence: str) -> None:
        super().__init__(sentence)
        self.line = line
        self.sentence = sentence


@dataclass(slots=True)
class Marked:
    """A value with its line, and what it contains: by key with the key's line, or in order."""

    line: int
    value: Any
    by_key: dict[str, tuple[int, Marked]] | None = None
    items: list[Marked] | None = None
    # of a mapping under way: the key whose value comes next
    key: tuple[int, str] | None = field(default=None)

    def line_of(self, place: tuple[int | str, ...]) -> int:
        """Line of a place; of the last part of it that exists."""
        at, line = self, self.line
        for part in place:
            if at.by_key is not None and isinstance(part, str) and part in at.by_key:
                line, at = at.by_key[part]
            elif at.items is not None and isinstance(part, int) and part < len(at.items):
                at = at.items[part]
                line = at.line
            else:
                break
        return line


def read_marked(text: str) -> Marked:
    """The one document of a text. Raises Unreadable: no YAML, anchors, too deep, too many values, a key
    twice.
    """
    stack: list[Marked] = []
    found: Marked | None = None
    values = 0
    try:
        for event in yaml.parse(text, Loader=yaml.CSafeLoader):
            line = event.start_mark.line + 1 if event.start_mark else 1
            if isinstance(event, AliasEvent) or (isinstance(event, NodeEvent) and event.anchor):
                # An alias stands for a whole tree, and nested ones for an endless one; a site's text needs
                # none.
                raise Unreadable(line, "Anchors and aliases are not read; write it out.")
            if isinstance(event, MappingEndEvent | SequenceEndEvent):
                found = stack.pop()
                continue
            if not isinstance(event, ScalarEvent | CollectionStartEvent):
                continue
            values += 1
            if values > MOST_VALUES:
                raise Unreadable(line, f"There are more than {MOST_VALUES:,} values up to here.")
            node = _begin(event, line)
            if stack:
                _add(stack[-1], node, line)
            elif found is not None:
                raise Unreadable(line, "There is a second document; a text has one.")
            if isinstance(event, CollectionStartEvent):
                stack.append(node)
                if len(stack) > DEEPEST:
                    raise Unreadable(line, f"It nests deeper than {DEEPEST} levels here.")
            else:
                found = node if not stack else found
    except yaml.MarkedYAMLError as error:
        mark = error.problem_mark or error.context_mark
        words = f"This is not YAML: {error.problem or error.context}."
        raise Unreadable(mark.line + 1 if mark else 1, words) from error
    except (yaml.YAMLError, UnicodeError) as error:
        raise Unreadable(1, "This is not YAML: it holds a character that YAML does not allow.") from error
    return found if found is not None else Marked(1, None)


def _begin(event: yaml.Event, line: int) -> Marked:
    if isinstance(event, yaml.MappingStartEvent):
        return Marked(line, {}, by_key={})
    if isinstance(event, yaml.SequenceStartEvent):
        return Marked(line, [], items=[])
    return Marked(line, _scalar(event))


def _scalar(event: Any) -> Any:
    """A scalar's value: text where it is quoted, else what the core schema makes of it."""
    text: str = event.value
    if event.style:
        return text
    if text in _WORDS:
        return _WORDS[text]
    if _INT.fullmatch(text):
        return int(text)
    if _HEX.fullmatch(text):
        return int(text, 16)
    return text


def _add(parent: Marked, node: Marked, line: int) -> None:
    """Puts a value where it belongs in the collection that is under way."""
    if parent.items is not None:
        parent.items.append(node)
        parent.value.append(node.value)
        return
    assert parent.by_key is not None
    if parent.key is None:
        if node.by_key is not None or node.items is not None:
            raise Unreadable(line, "A key is one word here, not a list or a mapping.")
        name = "" if node.value is None else str(node.value)
        if name in parent.by_key:
            raise Unreadable(line, f"There are two keys '{name[:60]}' here.")
        if len(parent.by_key) >= MOST_KEYS:
            raise Unreadable(line, f"There are more than {MOST_KEYS} keys in one place here.")
        parent.key = (line, name)
        return
    key_line, name = parent.key
    parent.key = None
    parent.by_key[name] = (key_line, node)
    parent.value[name] = node.value
