"""What a tenant is and can do, as text and JSON."""

from __future__ import annotations

from typing import Any

from rich.console import Group, RenderableType
from rich.text import Text

from sigillum.core.kinds.access import GRANT
from sigillum.core.kinds.profile import Operation
from sigillum.core.values.times import format_instant, rough_duration, whole_second
from sigillum.workflows.surveying.inspect import Inspection

from .common import Ident, pairs, table

UNSAID = "not said"


def _seconds(value: int | None) -> str:
    if value is None:
        return UNSAID
    return rough_duration(value) if value else "none"


def _who(found: Inspection, ident: Ident) -> RenderableType:
    profile, header = found.profile, found.header
    return pairs(
        [
            ("tenant", f"{header.tenant}{f' — {profile.title}' if profile.title else ''}"),
            ("address", ident(header.address)),
            ("stage", header.stage),
            (
                "its clock",
                f"{format_instant(whole_second(header.now))} "
                f"({rough_duration(header.skew_seconds) + ' off' if abs(header.skew_seconds) >= 1 else 'as here'})",
            ),
            (
                "administrator",
                f"{ident(header.administrator)}: {', '.join(sorted(profile.powers)) if profile.powers else UNSAID}",
            ),
            ("signs in at", ident(profile.issuer) or "nowhere we know"),
            ("decisions", "it answers questions" if profile.decisions else "it answers none"),
            ("resource types", ", ".join(found.types)),
        ]
    )


def _limits(found: Inspection) -> RenderableType:
    profile = found.profile
    return pairs(
        [
            (
                "changes arrive",
                f"within {_seconds(profile.arrival_seconds)}"
                if profile.arrival_seconds
                else ("at once" if profile.arrival_seconds == 0 else UNSAID),
            ),
            (
                "decisions follow",
                f"within {_seconds(profile.felt_seconds)}"
                if profile.felt_seconds
                else ("at once" if profile.felt_seconds == 0 else UNSAID),
            ),
            (
                "windows",
                ", ".join(
                    [
                        *(["not on broad roles"] if not profile.windows_on_broad else []),
                        *(["not for everyone"] if not profile.windows_on_everyone else []),
                    ]
                )
                or (
                    UNSAID
                    if profile.carried(GRANT) is None
                    else "on every grant"
                    if profile.ends_grants
                    else "it has none: sweep ends what has one"
                ),
            ),
            ("a credential lives", f"{_seconds(profile.credential_seconds)} at most" if profile.credential_seconds else UNSAID),
            ("credentials each", profile.keys_per_principal or UNSAID),
            ("an assertion lives", f"{_seconds(profile.assertion_seconds)} at most"),
            ("a token lives", _seconds(profile.token_seconds)),
            ("externalId unique", {True: "yes", False: "no", None: UNSAID}[profile.external_id_unique]),
            ("tenant-made secrets", profile.secret_delivery or UNSAID),
            ("credentials", ", ".join(profile.credential_kinds) or UNSAID),
            ("assertions", ", ".join(profile.assertion_algorithms) or UNSAID),
            *([("acting as", f"with {profile.acting} at an account")] if profile.acting else []),
            *([("signs for", f"whom it knows, with {', '.join(profile.signing)} at itself")] if profile.signer else []),
            *([("addresses", f"of accounts, in {profile.addresses}")] if profile.addresses else []),
            *(
                [("the directory", f"is looked after with {', '.join(profile.directory)}; acting for people is another thing")]
                if profile.directory
                else []
            ),
            *([("never shown", "; ".join(found.never))] if found.never else []),
            *([("kill safety", found.safety)] if found.safety else []),
            *(
                [("without our mark", f"{', '.join(sorted(profile.unmarked))}: ours are told by the ledger and the name alone")]
                if profile.unmarked
                else []
            ),
        ]
    )


def text(found: Inspection, ident: Ident) -> RenderableType:
    profile = found.profile
    parts: list[RenderableType] = [_who(found, ident), "", Text("limits", "bold"), _limits(found)]
    if profile.operations:
        parts += [
            "",
            Text("permissions", "bold"),
            table(
                ("permission", "class", "service", "needs", "call"),
                [
                    (o.permission, o.class_.replace("-", " "), o.service or "none", _demands(o), f"{o.method} {o.template}")
                    for o in profile.operations.values()
                ],
                ("permission", "class"),
            ),
        ]
    if found.roles:
        parts += ["", Text("roles", "bold"), roles(found)]
    for heading, columns, rows in _more(found):
        parts += ["", Text(heading, "bold"), table(columns, rows, columns[:2])] if rows else []
    if found.roots:
        parts += ["", Text("roots", "bold"), Text("  ".join(found.roots))]
    for line in found.cannot:
        parts += ["", Text.assemble(("cannot  ", "yellow"), line)]
    return Group(*parts)


def _more(found: Inspection) -> list[tuple[str, tuple[str, ...], list[tuple[Any, ...]]]]:
    """What else there is: a heading, columns, and rows."""
    return [
        (
            "scopes of APIs",
            ("api", "scope", "class", "acts", "narrowed to"),
            [(*s[:4], s[4] or "nothing") for s in found.scopes],
        ),
        (
            "licences",
            ("licence", "kind", "held", "mailbox"),
            [
                (n, kind, f"{held} of {total}" if total else held, "yes" if mailbox else "")
                for n, kind, total, held, mailbox in found.licences
            ],
        ),
        ("sign-in rules", ("rule", "is", "of whom", "demands", "exempt"), [(*r[:4], r[4] or "") for r in found.rules]),
        (
            "before something can be made",
            ("what", "for", "is", "about"),
            [
                (p.what, ", ".join(p.kinds) or "everything", "so" if p.met else "not so yet", p.about)
                for p in found.profile.preconditions
            ],
        ),
    ]


def _demands(operation: Operation) -> str:
    """What a permission asks for beside a grant of it and its service."""
    day = f" (as of {operation.checked})" if operation.checked else ""
    signed = [f"signed in by {' or '.join(operation.takes)}{day}"] if operation.takes else []
    return ", ".join([*operation.needs, *(["one location"] if operation.located else []), *signed]) or "none"


def roles(found: Inspection) -> RenderableType:
    """The roles to choose from, each permission with its class."""
    return table(("role", "breadth", "granted at", "allows"), [(r[0], r[1], r[4], r[5]) for r in found.roles], ("role",))


def as_json(found: Inspection) -> dict[str, Any]:
    profile, header = found.profile, found.header
    return {
        "tenant": header.tenant,
        "address": header.address,
        "stage": header.stage,
        "title": profile.title,
        "time": format_instant(header.now),
        "skew_seconds": round(header.skew_seconds, 3),
        "administrator": {
            "name": header.administrator,
            "powers": sorted(profile.powers) if profile.powers is not None else None,
        },
        "issuer": profile.issuer,
        "decisions": profile.decisions,
        "work": profile.work,
        "types": found.types,
        "limits": {
            "arrival_seconds": profile.arrival_seconds,
            "credential_seconds": profile.credential_seconds,
            "keys_per_principal": profile.keys_per_principal,
            "assertion_seconds": profile.assertion_seconds,
            "token_seconds": profile.token_seconds,
            "answer_items": profile.answer_items,
            "felt_seconds": profile.felt_seconds,
        },
        "external_id_unique": profile.external_id_unique,
        "secret_delivery": profile.secret_delivery,
        "permissions": [
            {
                "permission": o.permission,
                "class": o.class_,
                "method": o.method,
                "template": o.template,
                "service": o.service,
                "located": o.located,
                "needs": list(o.needs),
                "takes": list(o.takes),
                "checked": o.checked,
            }
            for o in profile.operations.values()
        ],
        "roles": [dict(zip(("role", "breadth", "class", "allows", "grantable_at"), r, strict=False)) for r in found.roles],
        "roots": found.roots,
        "cannot": found.cannot,
        "credential_kinds": list(profile.credential_kinds),
        "assertion_algorithms": list(profile.assertion_algorithms),
        "acting": profile.acting,
        "signing": list(profile.signing),
        "addresses": profile.addresses,
        "directory": list(profile.directory),
        "never_shown": found.never,
        "kill_safety": found.safety,
        "unmarked": sorted(profile.unmarked),
        "scopes": [dict(zip(("api", "scope", "class", "acts", "narrowed_to"), s, strict=True)) for s in found.scopes],
        "licences": [dict(zip(("licence", "kind", "total", "held", "mailbox"), x, strict=True)) for x in found.licences],
        "sign_in_rules": [dict(zip(("rule", "state", "targets", "demands", "exempt"), r, strict=True)) for r in found.rules],
        "preconditions": [p._asdict() for p in profile.preconditions],
    }
