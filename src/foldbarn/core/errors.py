"""The one family of errors that a person may meet.

BarnError
├── NotPossible      the wish breaks a rule, or an input is bad
│   └── Overtaken    it was fine when it was made, and another was faster
├── NotFound         the thing named does not exist
├── Conflict         the wish was fine, but the site has moved on or the name is taken
├── NotAllowed       the actor may not do this
└── Unreachable      an outside system is silent, slow or answers nonsense
"""

from __future__ import annotations


class BarnError(Exception):
    """A refusal in words.

    sentence: what is wrong, as a whole sentence for a person.
    about: the field or thing it concerns, or None.
    next_step: what would help, as a sentence, or None.
    """

    def __init__(self, sentence: str, *, about: str | None = None, next_step: str | None = None) -> None:
        super().__init__(sentence)
        self.sentence = sentence
        self.about = about
        self.next_step = next_step


class NotPossible(BarnError):
    """The wish breaks a rule or an input is bad."""


class Overtaken(NotPossible):
    """What a change was planned from does not hold any more. Raised before anything is done: there is nothing
    to put back.
    """


class NotFound(BarnError):
    """The thing named does not exist."""


class Conflict(BarnError):
    """The site has moved on, or a name is taken."""


class NotAllowed(BarnError):
    """The actor may not do this."""


class Unreachable(BarnError):
    """An outside system is silent, slow or answers nonsense."""
