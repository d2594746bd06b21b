"""Charter files: finding, reading, checking, and their JSON Schema."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import replace
from datetime import date
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING, Any

from pydantic import Field

from sigillum.core.charter.charter import Charter, PermissionWant
from sigillum.core.charter.rules import LEANING, unknown_tenant
from sigillum.core.facets.registry import check
from sigillum.core.values.asked import AskedWant
from sigillum.core.values.errors import FileError, Mistake, Position
from sigillum.core.values.text import did_you_mean
from sigillum.reading.document import Document, Spot, parse, read_text
from sigillum.reading.models import Day, Section, validate_with

from .keyfiles import read_certificate, read_public_key
from .models import AccountName, CharterName
from .names import charters
from .sections import account, billing, credential, grant, licence, membership, proof, role, service
from .sections.account import IdentitySection
from .sections.credential import CredentialSection
from .sections.grant import GrantSection
from .sections.proof import ProofSection
from .sections.role import RoleSection
from .sections.service import ServiceSection
from .workspace import Workspace

if TYPE_CHECKING:
    from sigillum.core.charter.wants import CertificateAnswer
    from sigillum.core.federation.subjects import Wrong

    from .issuers import IssuerSection


class CharterFile(Section):
    """One integration's charter."""

    charter: CharterName = Field(description="Its name, unique in the workspace")
    tenant: str = Field(description="Home of the identity")
    stage: str | None = Field(None, description="dev, test, prod ...; the tenant's own where none is given")
    purpose: str = Field(description="What the integration is for, in one sentence")
    owner: str | None = Field(None, description="Who answers for it")
    deputy: str | None = Field(None, description="Who answers when the owner is away")
    review: Day | None = Field(None, description="When it is to be looked at again")
    ticket: str | None = Field(None, description="Where it was asked for")
    billing: str | None = Field(None, description="The billing account that is to pay for it")
    identity: IdentitySection
    like: CharterName | None = Field(None, description="Another charter, whose services, teams and grants this one copies")
    services: list[ServiceSection] = Field(default_factory=list)
    roles: list[RoleSection] = Field(default_factory=list)
    member_of: list[AccountName] = Field(default_factory=list, description="Teams that the identity is in")
    members: list[AccountName] = Field(default_factory=list, description="Of a team: who is in it")
    grants: list[GrantSection] = Field(default_factory=list)
    permissions: Any = None  # this and the two below: see RARE
    credentials: list[CredentialSection] = Field(default_factory=list)
    trusts: Any = None
    delegation: Any = None
    workload: Any = None
    signing: Any = None
    proofs: list[ProofSection] = Field(default_factory=list)
    handover: Any = None
    sign_in: Any = None
    licence: str | None = Field(None, description="What the account has to hold, in the tenant's word for it")


def _part(name: str) -> Callable[[], type[Section]]:
    def load() -> type[Section]:
        found: type[Section] = import_module(f"sigillum.charters.sections.{name}").Part
        return found

    return load


RARE = {
    "permissions": _part("permission"),
    "handover": _part("handover"),
    "sign_in": _part("sign_in"),
    "trusts": _part("trusts"),
    "delegation": _part("delegation"),
    "workload": _part("workload"),
    "signing": _part("signing"),
}


def json_schema() -> dict[str, Any]:
    """The JSON Schema of a charter, for editors."""
    from pydantic import create_model

    rare: dict[str, Any] = {n: (f.annotation, f) for n, load in RARE.items() for f in [load().model_fields[n]]}
    schema = create_model("CharterFile", __base__=CharterFile, **rare).model_json_schema(by_alias=True)
    from .asked import also_asked

    also_asked(schema)
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **schema, "title": "Sigillum charter"}


def names(workspace: Workspace) -> dict[str, list[Path]]:
    """Charter names with the files that use them, read from the files' first lines only."""
    return charters(workspace.charters)


def path_of(workspace: Workspace, name: str, known: Mapping[str, list[Path]] | None = None) -> Path:
    """The file of a charter by its name, or by its path. Raises FileError."""
    known = names(workspace) if known is None else known
    if name in known:
        if len(known[name]) > 1:
            shown = ", ".join(p.name for p in known[name])
            mistake = Mistake(
                "name-taken",
                f"the charter name {name!r} is taken: {shown} use it",
                "give each charter a name of its own",
                Position(shown_path(workspace, known[name][1]), 1, 1),
            )
            raise FileError(mistake.what, mend=mistake.mend, mistakes=(mistake,))
        return known[name][0]
    direct = Path(name)
    if name.endswith((".yaml", ".yml")):
        for path in (direct, workspace.folder / direct, workspace.charters / direct):
            if path.is_file():
                return path
    raise FileError(
        f"there is no charter {name!r}",
        where="charters/",
        mend=did_you_mean(name, known) or f"write one with `sigillum charter new {name}`",
    )


def shown_path(workspace: Workspace, path: Path) -> str:
    """A path as messages show it: relative to the workspace where it lies inside."""
    try:
        return str(path.resolve().relative_to(workspace.folder.resolve()))
    except ValueError:
        return str(path)


def no_answers(charter: str) -> Mapping[str, str]:
    """Nobody was asked for anything."""
    return {}


def load(
    workspace: Workspace,
    path: Path,
    seen: tuple[str, ...] = (),
    answers: Callable[[str], Mapping[str, str]] = no_answers,
    known: Mapping[str, list[Path]] | None = None,
) -> Charter:
    """Read and check a charter. Raises FileError with every mistake at once. `seen`: charters that are like this one;
    `answers`: what somebody else told for a charter, by its name; `known`: all names with their files.
    """
    shown = shown_path(workspace, path)
    text = read_text(path, shown)
    document = parse(text, shown)
    if not isinstance(document.data, dict) or not document.data:
        mistake = Mistake(
            "not-a-charter",
            "this is not a charter: it has no keys",
            "run `sigillum charter new NAME` for one to begin with",
            Position(shown, 1, 1),
        )
        raise FileError(mistake.what, where=shown, mend=mistake.mend, mistakes=(mistake,))
    asked: tuple[AskedWant, ...] = ()
    if "ask:" in text:
        from .asked import answered

        document, asked = answered(document, answers(str(document.data.get("charter", ""))))
    try:
        file, parts = validate_with(CharterFile, RARE, document)
    except FileError as problem:
        raise FileError("", where=shown, mistakes=(*problem.mistakes, *_further(workspace, document, problem))) from None
    charter = replace(_alike(workspace, _to_core(workspace, file, parts, document), document, seen, known), asked=asked)
    mistakes = check(charter, workspace.rules, workspace.file.tenants)
    if mistakes:
        raise FileError("", where=shown, mistakes=tuple(_point(m, charter, document) for m in mistakes))
    return charter


def _further(workspace: Workspace, document: Document, problem: FileError) -> Iterator[Mistake]:
    """What else is wrong beside mistakes of form: in the sections that have none, and not because another one is left out."""
    begins = sorted((document.position((k,), key=True), k) for k in document.data)
    bad = {next((k for p, k in reversed(begins) if p <= m.position), "") for m in problem.mistakes if m.position is not None}
    rest = document._replace(data={k: v for k, v in document.data.items() if k not in bad})
    known = workspace.file.tenants
    try:
        charter = _to_core(workspace, *validate_with(CharterFile, RARE, rest), document)
    except FileError:  # what the charter is about is not known, and perhaps in which tenant it lives
        yield from unknown_tenant(
            str(document.data.get("tenant", next(iter(known), ""))), known, document.position(("tenant",))
        )
        return
    for mistake in check(charter, workspace.rules, known):
        if mistake.code not in LEANING and mistake.code.removesuffix("-missing") not in bad:
            yield _point(mistake, charter, document)


_SPOTS: dict[str, tuple[str, ...]] = {"tenant-unknown": ("tenant",)}


def _point(mistake: Mistake, charter: Charter, document: Document) -> Mistake:
    """Move a mistake about the whole charter to the key it is about. One of an entry stays where it is."""
    spot = _SPOTS.get(mistake.code)
    if spot is None or spot not in document.values or mistake.position != charter.position:
        return mistake
    return Mistake(mistake.code, mistake.what, mistake.mend, document.position(spot))


def _alike(
    workspace: Workspace,
    charter: Charter,
    document: Document,
    seen: tuple[str, ...],
    known: Mapping[str, list[Path]] | None,
) -> Charter:
    """With `like`, the other charter's services, teams and grants, read anew each time: so both stay the same."""
    if not charter.like:
        return charter

    def wrong(code: str, what: str, mend: str) -> FileError:
        return FileError(what, mistakes=(Mistake(code, what, mend, document.position(("like",))),))

    if charter.services or charter.member_of or charter.grants:
        raise wrong(
            "like-and-own",
            f"it is like {charter.like}, and asks for something of its own beside it",
            "leave `services`, `member_of` and `grants` out, or leave `like` out and write them all",
        )
    if charter.like == charter.name or charter.like in seen:
        raise wrong("like-circle", "the charters are like each other in a circle", "write the grants in one of them")
    try:
        model = load(workspace, path_of(workspace, charter.like, known), (*seen, charter.name), known=known)
    except FileError as problem:
        if problem.mistakes:
            raise
        raise wrong("like-unknown", problem.what, problem.mend) from problem
    if model.tenant != charter.tenant:
        raise wrong(
            "like-elsewhere",
            f"{model.name} lives in {model.tenant}, this one in {charter.tenant}",
            "name a charter of the same tenant",
        )
    return replace(charter, services=model.services, member_of=model.member_of, grants=model.grants)


def _to_core(workspace: Workspace, file: CharterFile, parts: Mapping[str, Any], document: Document) -> Charter:
    usual = workspace.file.defaults
    home = workspace.file.tenants.get(file.tenant)
    at = document.position
    stage = file.stage or (home.stage if home else None) or ""
    usual_name = usual.account_name.replace("{charter}", file.charter).replace("{stage}", stage)

    def public_key(index: int, section: CredentialSection) -> Mapping[str, Any] | None:
        if section.public_key is None:
            return None
        return read_public_key(
            workspace.folder / section.public_key.removeprefix("file:"), at(("credentials", index, "public_key"))
        )

    def answer(index: int, section: CredentialSection) -> CertificateAnswer | None:
        if section.certificate is None:
            return None
        path = workspace.folder / section.certificate.removeprefix("file:")
        ca = workspace.folder / workspace.file.house_ca.removeprefix("file:") if workspace.file.house_ca else None
        return read_certificate(path, ca, at(("credentials", index, "certificate")))

    def subject(trust: str, value: str | dict[str, str]) -> tuple[str, list[Wrong]]:
        from .sections.trusts import subject_text

        issuer = next((t.issuer for t in parts.get("trusts", ()) if t.name == trust), "")
        return subject_text(value, workspace.issuers.get(issuer))

    proofs = [proof.to_core(p, at(("proofs", i)), subject) for i, p in enumerate(file.proofs)]
    delegated = tuple(p for p in proofs if p.person) if parts.get("delegation") is not None else ()
    return Charter(
        name=file.charter,
        tenant=file.tenant,
        stage=stage,
        purpose=file.purpose,
        owner=file.owner or usual.owner or "",
        deputy=file.deputy or usual.deputy or "",
        review=file.review,
        ticket=file.ticket or "",
        billing=billing.to_core(file.billing),
        identity=account.to_core(file.identity, at(("identity",)), usual_name),
        like=file.like or "",
        services=tuple(service.to_core(s, at(("services", i))) for i, s in enumerate(file.services)),
        roles=tuple(role.to_core(r, at(("roles", i))) for i, r in enumerate(file.roles)),
        member_of=tuple(membership.to_core(m, at(("member_of", i))) for i, m in enumerate(file.member_of)),
        members=tuple(membership.to_core(m, at(("members", i))) for i, m in enumerate(file.members)),
        grants=tuple(grant.to_core(g, at(("grants", i))) for i, g in enumerate(file.grants)),
        permissions=_permissions(parts, at),
        credentials=tuple(
            credential.to_core(
                c, at(("credentials", i)), usual.credential_lasts, usual.renew_before, public_key(i, c), answer(i, c)
            )
            for i, c in enumerate(file.credentials)
        ),
        proofs=tuple(p for p in proofs if p.sign_in is None and p not in delegated),
        delegated=delegated,
        sign_ins=tuple(p for p in proofs if p.sign_in is not None),
        **_rare(parts, at, workspace.issuers),
        licence=licence.to_core(file.licence),
        position=at(()),
    )


def _permissions(parts: Mapping[str, Any], at: Callable[[Spot], Position]) -> tuple[PermissionWant, ...]:
    if "permissions" not in parts:
        return ()
    from .sections import permission

    return tuple(w for i, p in enumerate(parts["permissions"]) for w in permission.to_core(p, at(("permissions", i))))


def _rare(parts: Mapping[str, Any], at: Callable[[Spot], Position], issuers: Mapping[str, IssuerSection]) -> dict[str, Any]:
    """The sections that few charters have."""
    out: dict[str, Any] = {}
    if "handover" in parts:
        from .sections import handover

        out["handover"] = handover.to_core(parts["handover"])
    if "sign_in" in parts:
        from .sections import sign_in

        out["sign_in"] = sign_in.to_core(parts["sign_in"], at(("sign_in",)))
    if "trusts" in parts:
        from .sections import trusts

        out["trusts"] = tuple(trusts.to_core(t, issuers, at(("trusts", i))) for i, t in enumerate(parts["trusts"]))
    if parts.get("delegation") is not None:
        from .sections import delegation

        out["delegation"] = delegation.to_core(parts["delegation"], at(("delegation",)))
    if parts.get("workload") is not None:
        from .sections import workload

        out["workload"] = workload.to_core(parts["workload"], at(("workload",)))
    if parts.get("signing") is not None:
        from .sections import signing

        out["signing"] = signing.to_core(parts["signing"], at(("signing",)))
    return out


def review_day(today: date, seconds: int) -> str:
    """The day to review a charter that is written today."""
    from datetime import timedelta

    return (today + timedelta(seconds=seconds)).isoformat()
