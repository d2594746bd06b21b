"""A tenant of a dialect that is a secret store: what stands at a path, its generations beside it, and its old versions."""

from __future__ import annotations

from collections.abc import Mapping

from sigillum.core.values.errors import MachineError, RefusedError, SomebodyError

from .call_model import CallSection
from .calls import Speaker, Spoken
from .model import StoreSection
from .values import MisfitError, Values, at


class DialectStore:
    """One secret of a store, as `SecretStore` of the open driver has it: `PATH` is what consumers read.

    Raises RefusedError, UnreachableError, MachineError.
    """

    def __init__(self, speaker: Speaker, section: StoreSection, path: str, headers: Mapping[str, str] | None = None) -> None:
        """`headers`: what an identity presents, which reads there instead of the administrator."""
        self._speaker, self._section, self._path, self._headers = speaker, section, path, headers
        self._container, slash, self._name = path.partition("/")
        if not slash or not self._container or not self._name:
            raise SomebodyError(
                f"{path!r} names no secret of that store",
                where="keep_in",
                mend="write its container and its name, like store:TENANT/container/name",
            )

    def _values(self, name: str) -> dict[str, str]:
        """Where an entry stands: by the number behind its last dot, which what consumers read has none of."""
        _, dot, number = name.rpartition(".")
        beside = f"{self._section.joins}{number}" if dot and number.isdigit() else ""
        return {"container": self._container, "name": self._name + beside, "path": self._path + beside}

    def get(self, name: str) -> str | None:
        read, values = self._section.read, self._values(name)
        own = self._headers
        spoken = self._speaker.ask(read, values) if own is None else self._speaker.send(read, values, own)
        if spoken.means == "missing":
            return None
        self._good(spoken, "reading")
        value = at(spoken.handed, self._section.value)
        if not isinstance(value, str):
            raise MachineError(
                "the store tells no value",
                where=spoken.answer.url,
                mend="compare `store: value:` of its dialect with its reference",
            )
        return value

    def put(self, name: str, content: str) -> None:
        self._send(self._section.write, {**self._values(name), "content": content}, "writing")

    def remove(self, name: str) -> None:
        values = self._values(name)
        self._send(self._section.end, values, "destroying", missing=True)
        if values["path"] != self._path:
            self._old_versions(self._values(""))

    def _old_versions(self, values: dict[str, str]) -> None:
        """What a generation left among the versions of what consumers read goes with it; the one that they get stays."""
        section = self._section
        if section.versions is None or section.end_version is None:
            return
        found = list[object]()
        try:
            for spoken, items in self._speaker.pages(section.versions, values):
                if spoken.means == "missing":
                    return
                self._good(spoken, "reading the versions of")
                found += [at(item, section.version) for item in items]
        except MisfitError as problem:
            raise MachineError(
                f"the store's versions: {problem}",
                where=section.versions.address,
                mend="compare `store: versions:` of its dialect with its reference",
            ) from problem
        for version in found[1:] if section.newest == "first" else found[:-1]:
            self._send(section.end_version, {**values, "version": version}, "destroying a version of", missing=True)

    def _send(self, call: CallSection, values: Values, doing: str, *, missing: bool = False) -> None:
        reply, spoken = self._speaker.change(call, values, f"{doing} the secret {self._path}")
        if spoken is None:
            assert reply.error is not None
            raise reply.error
        if not (missing and spoken.means == "missing"):
            self._good(spoken, doing)

    def _good(self, spoken: Spoken, doing: str) -> None:
        if spoken.means not in ("done", "unchanged"):
            who = "the administrator" if self._headers is None else "this identity"
            raise RefusedError(
                f"{doing} the secret {self._path}: status {spoken.answer.status}: {spoken.said}",
                where=spoken.answer.url.partition("?")[0],
                mend=f"may {who} do that, and does the container exist?",
            )
