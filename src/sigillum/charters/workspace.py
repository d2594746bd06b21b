"""`sigillum.yaml`: the workspace's identity, tenants, house rules and defaults."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Literal

from pydantic import BeforeValidator, Field, WithJsonSchema
from pydantic_core import PydanticCustomError

from sigillum.core.charter.rules import Consumer, HouseRules
from sigillum.core.values.errors import FileError
from sigillum.core.values.text import BECAUSE_CLASSES, CLASSES
from sigillum.reading.document import parse, read_text
from sigillum.reading.models import Duration, Section, json_schema, validate_with

from .models import CharterName, reference
from .names import FILE

if TYPE_CHECKING:
    from .consumers import ConsumerSection
    from .issuers import IssuerSection

PRIVATE = ".sigillum"
DAY = 86_400


def _class(value: Any) -> Any:
    if value not in CLASSES:
        raise PydanticCustomError(
            "class", "{what}", {"what": "this is not a class of permissions", "mend": f"known: {', '.join(CLASSES)}"}
        )
    return value


Reference = Annotated[str, BeforeValidator(reference), WithJsonSchema({"type": "string", "pattern": "^[a-z]+:.+"})]


class AdminSection(Section):
    """The administrator on whose behalf Sigillum acts at a tenant; or one more, who acts or gets requests."""

    name: str
    token: Reference | None = Field(None, description="Where its token is; a tenant by hand needs none")
    powers: list[str] = Field(default_factory=list, description="What it may do, where no token here can tell")
    contact: str | None = Field(None, description="Where requests are sent")


class TenantSection(Section):
    """One tenant."""

    address: str = Field(description="Its SCIM base address, or where its own interface begins")
    stage: str | None = None
    admin: AdminSection
    admins: list[AdminSection] = Field(default_factory=list, description="More administrators, of other powers")
    driver: str = "open"
    issuer: str | None = Field(None, description="Its authorization server, where its profile names none")
    ca: str | None = Field(None, description="File of trusted authorities")
    facts: str | None = Field(None, description="Of a tenant by hand: the folder of its facts (facts/NAME where none is given)")
    dialect: str | None = Field(
        None,
        description="Of the driver dialect: the file (dialects/NAME.yaml where none is given), or the name of a description "
        "that comes with the tool",
    )
    dialect_digest: str | None = Field(
        None, description="Of a description that comes with the tool: the digest of the one that was accepted"
    )
    origins: list[str] = Field(default_factory=list, description="Addresses elsewhere to which its tokens may go, too")
    auth: Literal["scram-sha-256", "md5", "password"] | None = Field(
        None, description="Of the driver postgresql: how its server may ask for a password (scram-sha-256 where none is given)"
    )
    clock: str | None = Field(None, description="`tenant`: follow its clock however far it is off")


class RulesSection(Section):
    """The house rules."""

    longest_credential: Duration | None = None
    longest_loan: Duration | None = None
    forbidden_roles: list[str] = Field(default_factory=list)
    delegable_scopes: list[str] = Field(default_factory=list, description="OAuth scopes that may be delegated; none: all")
    delegation_to_all: bool = False  # may an identity act for everybody of a domain?
    named: list[str] = Field(default_factory=lambda: ["owner"])
    because: list[Annotated[str, BeforeValidator(_class)]] = Field(default_factory=lambda: sorted(BECAUSE_CLASSES))


class DefaultsSection(Section):
    """What a charter need not say."""

    owner: str | None = None
    deputy: str | None = None
    credential_lasts: Duration = 90 * DAY
    renew_before: Duration = 14 * DAY
    review_after: Duration = 365 * DAY
    quiet: Duration = 7 * DAY  # how long an old credential is unused until a consumer that is not described has surely left it
    requests_last: Duration = 14 * DAY  # how long somebody has time to answer one
    account_name: str = "{charter}"  # of identities whose charter gives none; knows {charter} and {stage}


class WorkspaceFile(Section):
    """All of sigillum.yaml."""

    workspace: str = Field(description="The workspace's uid; never change it")
    ledger_key: str = Field(description="Public half of the key that signs the ledger")
    rules: RulesSection = Field(default_factory=RulesSection)
    defaults: DefaultsSection = Field(default_factory=DefaultsSection)
    tenants: dict[CharterName, TenantSection] = Field(default_factory=dict)
    issuers: Any = None  # as the next one
    consumers: Any = None  # its model stands in `consumers`, and is made only where a workspace has some
    signers: dict[str, str] = Field(default_factory=dict, description="Whose signatures are known: name and key thumbprint")
    house_ca: str | None = Field(None, description="file:PATH of the house's CA (PEM), which signs certificates")
    witness: str | None = Field(None, description="File that keeps the ledger's head after each run")


@dataclass(frozen=True, eq=False)
class Workspace:
    """A workspace folder with what its file says."""

    folder: Path
    file: WorkspaceFile
    consumers: Mapping[str, ConsumerSection] = field(default_factory=dict)
    issuers: Mapping[str, IssuerSection] = field(default_factory=dict)

    @property
    def private(self) -> Path:
        return self.folder / PRIVATE

    @property
    def charters(self) -> Path:
        return self.folder / "charters"

    @property
    def ledger(self) -> Path:
        return self.private / "ledger.db"

    @property
    def checkpoint(self) -> Path:
        """Up to where this workspace verified its ledger last."""
        return self.private / "ledger-head.json"

    @property
    def signing_key(self) -> Path:
        return self.private / "ledger-key.json"

    def keys_of(self, charter_uid: str) -> Path:
        return self.private / "keys" / charter_uid

    @property
    def rules(self) -> HouseRules:
        section = self.file.rules
        usual = HouseRules()
        return HouseRules(
            section.longest_credential or usual.longest_credential_seconds,
            frozenset(section.forbidden_roles),
            tuple(section.named),
            frozenset(section.because),
            section.longest_loan or usual.longest_loan_seconds,
            frozenset(section.delegable_scopes),
            section.delegation_to_all,
            {
                n: Consumer(n, c.used_every, 0 if c.picks_up == "each-time" else c.picks_up, c.from_ or "")
                for n, c in self.consumers.items()
            },
            self.file.defaults.quiet,
        )

    def tenant(self, name: str) -> TenantSection:
        """Raises FileError for a tenant that the workspace does not know."""
        from sigillum.core.values.text import did_you_mean

        if name not in self.file.tenants:
            raise FileError(
                f"this workspace knows no tenant {name!r}",
                where=FILE,
                mend=did_you_mean(name, self.file.tenants) or "add one with `sigillum tenant add`",
            )
        return self.file.tenants[name]


def find(start: Path) -> Path:
    """The workspace's folder: `start` or the nearest one above. Raises FileError."""
    for folder in (start, *start.parents):
        if (folder / FILE).is_file():
            return folder
    raise FileError(
        "there is no workspace here",
        where=str(start),
        mend="run `sigillum init` to begin one, or name its folder with `--workspace`",
    )


def load(folder: Path) -> Workspace:
    """Read a workspace. Raises FileError."""
    document = parse(read_text(folder / FILE, FILE), FILE)
    file, parts = validate_with(WorkspaceFile, PARTS, document)
    return Workspace(folder, file, parts.get("consumers", {}), parts.get("issuers", {}))


def schema() -> dict[str, Any]:
    """The JSON Schema of sigillum.yaml, for editors."""
    return json_schema(WorkspaceFile, PARTS, "The workspace file of Sigillum")


def _issuers() -> type[Section]:
    from .issuers import Part

    return Part


def _consumers() -> type[Section]:
    from .consumers import Part

    return Part


PARTS = {"consumers": _consumers, "issuers": _issuers}  # their models are made only where a workspace has some
