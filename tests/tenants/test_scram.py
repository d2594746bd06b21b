"""SCRAM verifiers, against the published example of RFC 7677 §3 and against what servers do with odd passwords."""

from __future__ import annotations

import base64

import pytest

from sigillum.core.values.secret import Secret
from sigillum.tenants.postgresql.scram import prepared, verifier


def test_the_published_example() -> None:
    assert verifier(Secret("pencil"), base64.b64decode("W22ZaJ0SNY7soEsUEjb6gQ==")) == (
        "SCRAM-SHA-256$4096:W22ZaJ0SNY7soEsUEjb6gQ==$WG5d8oPm3OtcPnkdi4Uo7BkeZkBFzpcXkuLmtbsT4qY=:wfPLwcE6nTWhTAmQ7tl2KeoiWGPlZqQxSrmfPwDl2dU="
    )
    assert verifier(Secret("x")) != verifier(Secret("x"))


@pytest.mark.parametrize(
    ("text", "wanted"),
    [  # RFC 4013 §3, and what is prohibited stays
        ("I\u00adX", "IX"),
        ("user", "user"),
        ("USER", "USER"),
        ("\u00aa", "a"),
        ("\u2168", "IX"),
        ("\u0007", "\u0007"),
        ("\u06271", "\u06271"),
        ("a\u00a0b", "a b"),
    ],
)
def test_passwords_are_prepared_as_the_standard_says(text: str, wanted: str) -> None:
    assert prepared(text) == wanted
