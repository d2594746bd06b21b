"""Refusals of the simulated tenants, as SCIM (RFC 7644 §3.12) and OAuth (RFC 6749 §5.2) write them."""

from __future__ import annotations


class ScimProblem(Exception):
    """A SCIM error answer: HTTP status, scimType (or None), a sentence, and what is allowed instead (405)."""

    def __init__(self, status: int, detail: str, scim_type: str | None = None, allow: str = "") -> None:
        super().__init__(detail)
        self.status, self.detail, self.scim_type, self.allow = status, detail, scim_type, allow


class OAuthProblem(Exception):
    """An OAuth error answer: code, sentence, HTTP status and whether to add a WWW-Authenticate header."""

    def __init__(self, code: str, detail: str, status: int = 400, challenge: str | None = None, allow: str = "") -> None:
        super().__init__(detail)
        self.code, self.detail, self.status, self.challenge, self.allow = code, detail, status, challenge, allow
