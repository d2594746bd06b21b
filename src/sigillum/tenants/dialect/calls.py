"""Making the calls of a dialect: requests from templates, what their answers mean, and the pages of a list."""

from __future__ import annotations

import itertools
import json
import re
from collections.abc import Callable, Iterator, Mapping
from datetime import UTC, datetime, timedelta
from typing import Any, NamedTuple
from urllib.parse import urlencode, urljoin

from sigillum.core.values.canonical import thumbprint
from sigillum.core.values.errors import RefusedError
from sigillum.core.values.secret import Secret
from sigillum.core.values.text import plain
from sigillum.core.values.times import ClockReading
from sigillum.protocols import oauth
from sigillum.protocols.http import Answer, Http, HttpError, basic
from sigillum.protocols.listing import Turning
from sigillum.tenants.port import Reply, Result

from .call_model import CallSection, ListSection, PageSection, SpotSection, ToldSection
from .model import DialectFile, WaySection
from .values import NOTHING, MisfitError, Values, address_of, at, filled, header_of, names_in, private_key

MOST_THINGS = 200_000  # in one list
LOOKS, CHANGES = "looks", "changes"  # for what the administrator's token is fetched
USUAL = {404: "missing", 409: "exists", 412: "stale", 429: "busy", 503: "busy"}
LINK = re.compile(r"<([^<>]*)>\s*((?:;\s*[\w*]+\s*=\s*(?:\"[^\"]*\"|[^\s,;]+)\s*)*)")
REL = re.compile(r";\s*rel\s*=\s*(?:\"([^\"]*)\"|([^\s,;]+))")


class Spoken(NamedTuple):
    """An answer and what it means."""

    means: str
    answer: Answer
    body: Any
    said: str

    @property
    def handed(self) -> Any:
        """The body with all that is in it: for who takes a secret out of it, or sends it back."""
        return None if self.body is None else self.answer.handed

    def error(self, doing: str) -> RefusedError:
        """Why it is no success."""
        return RefusedError(
            f"{doing} was refused (status {self.answer.status}): {self.said}",
            where=self.answer.url.partition("?")[0],
            mend="look at the detail; the tenant's reference says more",
        )

    def reply(self, doing: str) -> Reply:
        """It as the reply to a request that changes something."""
        result = {
            "done": Result.DONE,
            "unchanged": Result.DONE,
            "exists": Result.EXISTS,
            "spent": Result.EXISTS,
            "missing": Result.MISSING,
            "stale": Result.STALE,
            "busy": Result.BUSY,
            "unsure": Result.LOST,
        }.get(self.means, Result.REFUSED)
        return Reply(
            result,
            detail=self.said,
            wait_seconds=self.answer.retry_after(),
            error=None if result is Result.DONE else self.error(doing),
        )


def _tells_doing(way: WaySection) -> bool:
    """Is another token fetched for changing than for looking?"""
    first = way.first
    return first is not None and any(
        n == "doing" for part in (first.query, first.headers, first.body, first.form) for n, _ in names_in(part)
    )


def fits(section: ToldSection, status: int, body: Any) -> bool:
    """Is it this answer?"""
    statuses = section.status if isinstance(section.status, list) else [section.status]
    if section.status is not None and status not in statuses:
        return False
    if section.at is None:
        return True
    found = at(body, section.at)
    if section.contains is not None:
        return isinstance(found, str) and section.contains in found
    if section.is_ is None:
        return found is not None
    wanted = section.is_ if isinstance(section.is_, list) else [section.is_]
    return any(found == w and isinstance(found, bool) is isinstance(w, bool) for w in wanted)


class Speaker:
    """One tenant's interface, spoken to as the administrator or as an identity."""

    def __init__(
        self, dialect: DialectFile, http: Http, base: str, token: Secret, admin: str, heard: Callable[[ClockReading], None]
    ) -> None:
        self.dialect, self.http, self.base, self.token, self.admin = dialect, http, base.rstrip("/"), token, admin
        self.clock: ClockReading | None = None
        self._heard = heard
        self.keys: Callable[[], list[dict[str, Any]]] = list  # the public keys that are known here (JWK)
        self.sent_keys = list[dict[str, Any]]()  # those that were sent in this run
        self.last = ""  # what was called last, for who has to find out what an answer was to
        self._presented = dict[str, str]()  # what a first call gave the administrator for looking or changing, until refused

    @property
    def now(self) -> datetime:
        return datetime.now(UTC) + (self.clock.shift if self.clock is not None else timedelta(0))

    # --- who speaks -------------------------------------------------------------------------------------------------
    def as_administrator(self, values: Values, doing: str = LOOKS) -> dict[str, str]:
        """What the administrator presents. A first call that gives a token is made once. Raises RefusedError."""
        way = self.dialect.ways_in.administrator
        values = {**values, "secret": self.token, "admin": self.admin, "doing": doing}
        if way.first is not None:
            key = doing if _tells_doing(way) else ""
            token = self._presented.get(key) or self.first(way, values)
            self._presented[key] = token
            values = {**values, "token": token, "secret": Secret(token)}
        return self.headers(way, values)

    def headers(self, way: WaySection, values: Values) -> dict[str, str]:
        """What is presented. Raises RefusedError, MachineError."""
        secret = values.get("secret")
        if way.first is None and "assertion" not in values:
            values = {**values, "assertion": self.assertion(way, values)}
        if way.basic is not None:
            name = str(filled(f" {way.basic}", values, self.dialect.words, self.now))[1:]
            given = basic(name, secret).reveal() if isinstance(secret, Secret) else ""
            return {"Authorization": f"Basic {given}"}
        return {str(way.header): header_of(way.value, values, self.dialect.words, self.now)}

    def first(self, way: WaySection, values: Values) -> str:
        """The token that a first call gives. Raises RefusedError."""
        assert way.first is not None
        spoken = self.send(way.first, {**values, "assertion": self.assertion(way, values)}, {})
        token = spot_of(spoken, way.first.token) if spoken.means == "done" else ""
        if not token:
            raise RefusedError(
                f"signing in was refused (status {spoken.answer.status}): {spoken.said}",
                where=self.base,
                mend="check the name and the secret",
            )
        return token

    def assertion(self, way: WaySection, values: Values) -> str:
        """What is signed anew, where that is how somebody proves themselves. Raises FileError, MachineError."""
        if way.signs is None:
            return ""
        key = values.get("key")
        if key is None:
            secret = values.get("secret")
            key = private_key(secret.reveal() if isinstance(secret, Secret) else "")
        about = {**values, "thumbprint": thumbprint(key)}
        words, now = self.dialect.words, self.now
        header = {n: header_of(t, about, words, now) for n, t in way.signs.header.items()}
        claims = {n: c for n, t in way.signs.claims.items() if (c := filled(t, about, words, now)) is not NOTHING}
        return oauth.signed(key, way.signs.algorithm, claims, now, way.signs.lives, header).reveal()

    # --- one exchange -----------------------------------------------------------------------------------------------
    def send(
        self,
        call: CallSection,
        values: Values,
        headers: Mapping[str, str],
        *,
        url: str = "",
        more: Values | None = None,
        body: Any = NOTHING,
        any_form: bool = False,
        look: bool = False,
    ) -> Spoken:
        """One request, and what its answer means. `any_form`: it need not be JSON; `look`: it changes nothing.

        Raises HttpError, ValueRefusedError."""
        words, now = self.dialect.words, self.now
        page = call.page if isinstance(call, ListSection) else None
        inside = more if page is not None and page.in_body else None
        url = url or self._url(call, values, {} if inside else more or {})
        self.last = f"{call.method.upper()} {url.partition('?')[0].removeprefix(self.base)}"
        sent = {
            "Accept": "application/json",
            **headers,
            **{n: header_of(t, values, words, now) for n, t in call.headers.items()},
        }
        content = None
        if call.form is not None:
            fields = filled({n: str(v) if not isinstance(v, str) else v for n, v in call.form.items()}, values, words, now)
            content, sent["Content-Type"] = urlencode(fields).encode(), "application/x-www-form-urlencoded"
        elif body is not NOTHING or call.body is not None:
            whole = body if body is not NOTHING else filled(call.body, values, words, now)
            if inside and isinstance(whole, dict):
                whole = {**whole, **inside}
            content = json.dumps({} if whole is NOTHING else whole).encode()
            sent["Content-Type"] = "application/json"
        spoken = self._read(call, self.http.send(call.method.upper(), url, sent, content, look=look), any_form=any_form)
        if spoken.means == "hidden" and call.settled is not None:
            settling = CallSection.model_validate({"get": call.settled.get})
            if self.ask(settling, values).means == "done":
                return spoken._replace(means=call.settled.means)
        return spoken

    def _url(self, call: CallSection, values: Values, more: Values) -> str:
        address = address_of(call.address, values, self.dialect.words, self.now)
        url = address if address.startswith("http") else self.base + address
        query = {
            n: f for n, t in call.query.items() if (f := filled(t, values, self.dialect.words, self.now)) not in (NOTHING, "")
        }
        asked = urlencode({n: str(v).lower() if isinstance(v, bool) else v for n, v in {**query, **more}.items()})
        return f"{url}{'&' if '?' in url else '?'}{asked}" if asked else url

    def _read(self, call: CallSection, answer: Answer, *, any_form: bool) -> Spoken:
        reading = answer.clock()
        if reading is not None:
            self.clock = reading if self.clock is None else self.clock.narrowed(reading)
            self._heard(self.clock)
        try:
            body = answer.json if answer.body else None
        except HttpError:
            body = None
            if answer.status < 300 and call.method == "get" and not any_form:
                raise
        for section in (*call.answers, *self.dialect.answers):
            if fits(section, answer.status, body):
                return Spoken(section.means, answer, body, _said(body))
        means = "done" if answer.status < 300 else USUAL.get(answer.status, "unsure" if answer.status >= 500 else "refused")
        return Spoken(means, answer, body, _said(body))

    def ask(self, call: CallSection, values: Values, *, url: str = "", more: Values | None = None) -> Spoken:
        """A request of the administrator's; where a fetched token is refused, once more with a new one."""
        spoken = self.send(call, values, self.as_administrator(values), url=url, more=more, look=True)
        if self._refused(spoken):
            spoken = self.send(call, values, self.as_administrator(values), url=url, more=more, look=True)
        return spoken

    def _refused(self, spoken: Spoken) -> bool:
        """Was a fetched token refused? Nothing was done then (RFC 9110 §15.5.2), and another one is fetched."""
        if spoken.answer.status != 401 or not self._presented:
            return False
        self._presented.clear()
        return True

    def change(
        self,
        call: CallSection,
        values: Values,
        doing: str,
        *,
        headers: Mapping[str, str] | None = None,
        body: Any = NOTHING,
        presented: Mapping[str, str] | None = None,
    ) -> tuple[Reply, Spoken | None]:
        """One request that changes something, exactly once: the administrator's, or of whom something else is `presented`."""

        def send() -> Spoken:
            who = self.as_administrator(values, CHANGES) if presented is None else presented
            return self.send(call, values, {**who, **(headers or {})}, body=body)

        try:
            spoken = send()
            if presented is None and self._refused(spoken):
                spoken = send()
        except HttpError as problem:
            return Reply(Result.LOST if problem.sent else Result.UNSENT, detail=problem.what, error=problem), None
        return spoken.reply(doing), spoken

    # --- lists ------------------------------------------------------------------------------------------------------
    def pages(self, call: ListSection, values: Values) -> Iterator[tuple[Spoken, list[Any]]]:
        """The pages of a list, each with its entries; one that is no success ends it. Raises HttpError."""
        url, more, count = "", dict[str, Any](), 0
        page = call.page
        if page is not None and page.number:
            more = {page.number: page.first}
        turning = Turning(self.base, MOST_THINGS, mend="compare `page` with the tenant's reference")
        for number in itertools.count():
            spoken = self.ask(call, values, url=url, more=more)
            count += len(items := _items(call, spoken))
            status = spoken.answer.status
            yield spoken, [i for i in items if call.only is None or fits(call.only, status, i)]
            following = _following(page, spoken, items, number, count) if page is not None and spoken.means == "done" else None
            if following is None:
                return
            turning.page((json.dumps(i, sort_keys=True) for i in items), len(spoken.answer.body))
            url, more = following
            if url:
                url = urljoin(spoken.answer.url, url)


def spot_of(spoken: Spoken, spot: SpotSection) -> str:
    """What stands at a place of an answer, as text and as it was handed out; nothing where it is not there."""
    found = spoken.answer.headers.get(spot.header, "") if spot.header is not None else at(spoken.handed, str(spot.at))
    return str(found) if isinstance(found, (str, int)) and not isinstance(found, bool) else ""


def _items(call: ListSection, spoken: Spoken) -> list[Any]:
    """The entries of a page. Raises MisfitError where there is no list."""
    if spoken.means != "done":
        return []
    found = at(spoken.body, call.items, NOTHING)
    if call.single:
        return [found] if found not in (None, NOTHING) else []
    if found is not None and not isinstance(found, list):
        why = "nothing stands there" if found is NOTHING else "it is no list"
        raise MisfitError(f"its list at {call.items or 'the root'}: {why}")
    return found or []


def _following(
    page: PageSection, spoken: Spoken, items: list[Any], number: int, count: int
) -> tuple[str, dict[str, Any]] | None:
    """The address or the parameters of the next page; None after the last one."""
    if page.more is not None and at(spoken.body, page.more) in (None, False, 0, "", "false"):
        return None
    if page.link is not None:
        for url, parameters in LINK.findall(spoken.answer.headers.get("Link", "")):
            rel = REL.search(parameters)
            if rel and page.link in (rel[1] or rel[2]).split():
                return url, {}
        return None
    if page.address is not None:
        found = at(spoken.body, page.address)
        return (found, {}) if isinstance(found, str) and found else None
    if page.token is not None:
        found = at(spoken.body, page.token)
        return ("", {str(page.query): found}) if found not in (None, "", False) else None
    if not items:
        return None
    return ("", {str(page.offset): count}) if page.offset else ("", {str(page.number): page.first + number + 1})


def _said(body: Any) -> str:
    """What an answer says in words: the first text in it, or in what stands in it."""
    inner = [body, *(v for v in body.values() if isinstance(v, dict))] if isinstance(body, dict) else []
    for name in ("message", "detail", "error_description", "reason", "text", "title", "error", "code"):
        for part in inner:
            if isinstance(part.get(name), str) and part[name]:
                return plain(part[name])[:300]
    return plain(body)[:300] if isinstance(body, str) else "it says nothing more"
