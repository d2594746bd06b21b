"""The words that the sections of our files share: names, places, permissions, references to secrets."""

from __future__ import annotations

import re
from typing import Annotated, Any

from pydantic import BeforeValidator
from pydantic_core import PydanticCustomError

from sigillum.core.values.text import ACCOUNT_NAME, CHARTER_NAME, PERMISSION, PLACE_PATH
from sigillum.reading.models import by_pattern, form_schema, text_schema

REFERENCE_WAYS = ("env:", "file:", "keyring:")


def reference(value: Any) -> Any:
    """A reference to a secret, never the secret itself."""
    if not isinstance(value, str) or not value.startswith(REFERENCE_WAYS):
        raise PydanticCustomError(
            "secret-inline",
            "{what}",
            {
                "what": "a secret stands here itself instead of a reference to it",
                "mend": "write env:NAME, file:PATH or keyring:NAME, and replace the secret, since it may have been seen",
            },
        )
    return value


CharterName = Annotated[
    str,
    by_pattern(CHARTER_NAME, "name", "a charter's name", "use small letters, digits and dashes, 63 at most"),
    form_schema(CHARTER_NAME.pattern),
]
AccountName = Annotated[
    str,
    by_pattern(ACCOUNT_NAME, "name", "an account's name", "use letters, digits and . _ @ + -, 127 at most"),
    form_schema(ACCOUNT_NAME.pattern),
]
PlacePath = Annotated[
    str,
    by_pattern(PLACE_PATH, "place", "a place", "write its path from the root, segments with slashes between"),
    form_schema(PLACE_PATH.pattern),
]
SIGN_IN = "sign-in"
_EXPECTED = re.compile(rf"(?:{SIGN_IN}\Z|{PERMISSION.pattern})")
Expected = Annotated[
    str,
    by_pattern(_EXPECTED, "permission", "a permission", "write thing.verb, like stream.append; or sign-in"),
    form_schema(_EXPECTED.pattern),
]
Reference = Annotated[str, BeforeValidator(reference), text_schema(pattern=f"^(?:{'|'.join(REFERENCE_WAYS)})")]
Permission = Annotated[
    str,
    by_pattern(PERMISSION, "permission", "a permission", "write thing.verb, like stream.append"),
    form_schema(PERMISSION.pattern),
]
