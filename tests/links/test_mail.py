"""Mail over SMTP: encrypted (RFC 3207), signed in (RFC 4954), with a picture (RFC 2046), and servers that do
not take it.
"""

from __future__ import annotations

from collections.abc import Iterator

import pytest

from foldbarn.core.errors import NotPossible, Unreachable
from foldbarn.house.postgres import free_port
from foldbarn.links import mail
from foldbarn.links.mail import Letter, MailServer, send
from foldbarn.yard.post import ACCOUNT, PASSWORD, PostBox, open_post

PICTURE = b"\x89PNG\r\n\x1a\n and more"
LETTER = Letter(
    to="tomas@skerry.example",
    subject="Urgent: Fährplan answers late",
    text="Above 100 ms since 10:32.\n.\nA line of a dot alone ends nothing.\n",
    mark="mark-1",
    made=1_795_454_299.0,
    picture=PICTURE,
)


@pytest.fixture
def post() -> Iterator[tuple[PostBox, int]]:
    box, port = PostBox(), free_port()
    controller = open_post(box, port)
    yield box, port
    controller.stop()


def server(port: int, **more: object) -> MailServer:
    return MailServer("127.0.0.1", port, "barn@skerry.example", **more)  # type: ignore[arg-type]


def test_a_letter_arrives_word_for_word_with_its_picture(post: tuple[PostBox, int]) -> None:
    box, port = post
    send(server(port), LETTER)
    [found] = box.messages
    assert (found["to"], found["subject"]) == (LETTER.to, LETTER.subject)
    assert found["text"] == LETTER.text.strip()
    assert found["mark"] == "<mark-1@skerry.example>"
    assert found["picture"] == "iVBORw0KGgogYW5kIG1vcmU="  # PICTURE in base 64 (RFC 4648)
    assert (found["encrypted"], found["account"]) == (False, "")


def test_it_is_encrypted_and_signed_in_where_that_is_asked_for(post: tuple[PostBox, int]) -> None:
    box, port = post
    known = server(port, encrypted=True, trusted=box.certificate, account=ACCOUNT, password=PASSWORD)
    send(known, LETTER)
    assert (box.messages[0]["encrypted"], box.messages[0]["account"]) == (True, ACCOUNT)
    # A server that nobody vouches for is told nothing, least of all a password.
    with pytest.raises(Unreachable, match="certificate is not trusted"):
        send(server(port, encrypted=True, account=ACCOUNT, password=PASSWORD), LETTER)
    with pytest.raises(Unreachable, match="535"):
        send(server(port, encrypted=True, trusted=box.certificate, account=ACCOUNT, password="no"), LETTER)
    with pytest.raises(NotPossible, match="no certificate"):
        send(server(port, encrypted=True, trusted="-----BEGIN CERTIFICATE-----\nnone"), LETTER)
    assert len(box.messages) == 1


def test_a_server_that_refuses_or_says_nothing_is_told_of_in_its_words(
    post: tuple[PostBox, int], monkeypatch: pytest.MonkeyPatch
) -> None:
    box, port = post
    box.how = "refuses"
    with pytest.raises(Unreachable, match=r"451 4\.3\.0 This server takes nothing now"):
        send(server(port), LETTER)
    box.how = "silent"
    monkeypatch.setattr(mail, "PATIENCE_SECONDS", 0.3)
    with pytest.raises(Unreachable, match="no answer within"):
        send(server(port), LETTER)
    with pytest.raises(Unreachable, match="Connection refused"):
        send(server(free_port()), LETTER)
    assert not box.messages
