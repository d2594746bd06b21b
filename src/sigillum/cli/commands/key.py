"""`sigillum key make | read | check | take | convert | mend | scan`"""

from __future__ import annotations

import argparse
import os
from pathlib import Path
from typing import TYPE_CHECKING, Any

from sigillum.cli.context import Context
from sigillum.cli.options import NO_FORM, common, verbs_of
from sigillum.cli.searching import attest, looking, scan
from sigillum.core.values.errors import FileError, Outcome, UsageError

if TYPE_CHECKING:
    from sigillum.core.values.secret import Secret
    from sigillum.keys.shapes import Shape

EXAMPLE = """examples:
  sigillum key make gateway.jwk --algorithm ES256
  sigillum key read found.pem               what is it, how strong, and does it hold a private key?
  sigillum key check found.pem --against wind-ingest
  sigillum key take found.pem wind-ingest --look-in ~/scripts     keep it here; where else does it lie?
  sigillum key convert gateway.jwk --form pem --out gateway.pem --encrypt env:PHRASE
  sigillum key mend pasted.txt --out whole.pem
  sigillum key attest mast-reader ~/scripts      that there is no private key of it, and how that was established
  sigillum key scan ~/scripts ~/.bash_history"""


def add_parser(subparsers: Any) -> None:
    parser = subparsers.add_parser(
        "key",
        parents=[common(NO_FORM)],
        epilog=EXAMPLE,
        description="Make, read, check, take, convert and mend keys. Nothing private is ever shown.",
    )
    verbs = verbs_of(parser)
    make = verbs.add_parser(
        "make",
        parents=[common()],
        help="a key pair",
        epilog=EXAMPLE,
        description="Make a key pair: the private half in a file of yours alone, the public one beside it.",
    )
    make.add_argument("file", type=Path, metavar="FILE", help="of the private half, a new file")
    make.add_argument("--algorithm", choices=("Ed25519", "ES256", "RS256"), default="Ed25519")
    read = verbs.add_parser(
        "read",
        parents=[common()],
        help="what kind of file is this",
        epilog=EXAMPLE,
        description="What a file is: private or public key, certificate, token, configuration ...; whose, "
        "how strong, until when, and whether it holds a private key. Exit 1: something else.",
    )
    check = verbs.add_parser(
        "check",
        parents=[common()],
        help="does it belong to a charter",
        epilog=EXAMPLE,
        description="Does a key belong to what a charter registered: which generation, and is it alive?",
    )
    check.add_argument("--against", required=True, metavar="CHARTER")
    take, convert = _add_take(verbs), _add_convert(verbs)
    mend = verbs.add_parser(
        "mend",
        parents=[common()],
        help="undo what pasting did to it",
        epilog=EXAMPLE,
        description="Quotes around it, line ends written out, lost or broken first and last lines, stray "
        "spaces, Windows line ends: mended where it is certain, else refused with the reason.",
    )
    looking(verbs, EXAMPLE)
    for one in (read, check, convert, mend):
        one.add_argument("file", metavar="FILE", help="or - for standard input")
    for one in (read, check, convert, take):
        one.add_argument("--password", metavar="REFERENCE", help="where an encrypted file's password is: env:NAME, file:PATH")
    for one in (convert, mend):
        one.add_argument("--out", type=Path, metavar="FILE", help="a new file (needed where it is private)")


def _add_take(verbs: Any) -> Any:
    take = verbs.add_parser(
        "take",
        parents=[common()],
        help="keep a found private key of a charter here",
        epilog=EXAMPLE,
        description="A private key that was made elsewhere, and whose public half a charter's credential "
        "has, is kept here from now on; the copies that are to be removed are listed.",
    )
    take.add_argument("file", metavar="FILE", type=Path)
    take.add_argument("charter", metavar="CHARTER")
    take.add_argument(
        "--look-in",
        action="append",
        default=[],
        type=Path,
        metavar="DIR",
        help="where copies may lie; again for more (default: the file's own folder)",
    )
    take.add_argument("--remove", action="store_true", help="remove the file; only when nobody reads it any more")
    return take


def _add_convert(verbs: Any) -> Any:
    convert = verbs.add_parser(
        "convert",
        parents=[common()],
        help="another form of the same key",
        epilog=EXAMPLE,
        description="The same key in another form; a private one is written into a file of yours alone.",
    )
    convert.add_argument(
        "--form",
        required=True,
        choices=("pem", "pkcs1", "sec1", "der", "jwk", "jwks", "pkcs12"),
        help="pem: PKCS#8, or SubjectPublicKeyInfo",
    )
    convert.add_argument("--public", action="store_true", help="only the public half")
    convert.add_argument("--encrypt", metavar="REFERENCE", help="encrypt it with the password that stands there")
    return convert


def run(args: argparse.Namespace, context: Context) -> Outcome:
    return {
        "make": _make,
        "read": _read,
        "check": _check,
        "take": _take,
        "convert": _convert,
        "mend": _mend,
        "scan": scan,
        "attest": attest,
    }[args.verb](args, context)


def _data(file: str) -> bytes:
    from sigillum.keys.shapes import MOST_BYTES
    from sigillum.reading.given import data_of

    return data_of(file, MOST_BYTES)


def _password(reference: str | None) -> Secret | None:
    from sigillum.keeping.references import resolve

    return resolve(reference, Path.cwd(), "the command line") if reference else None


def _shapes(file: str, password: str | None = None) -> list[Shape]:
    from sigillum.keys.shapes import NoShapeError, read

    data = _data(file)
    try:
        if password and not any(("locked", "yes") in s.about for s in read(data)):
            raise UsageError(
                "nothing in this file is encrypted",
                where="--password",
                mend="omit it; `sigillum key convert --encrypt` encrypts the output",
            )
        return read(data, _password(password))
    except NoShapeError as problem:
        raise FileError(
            f"it cannot be told what this is: {problem}",
            where=file,
            mend="`sigillum key mend` undoes what pasting does to a key",
        ) from problem


def thumbprints(file: str, password: str | None = None) -> list[str]:
    """The thumbprints of the certificates and keys in a file. Raises FileError where there is none."""
    shapes = _shapes(file, password)
    found = [m for s in shapes for m in (dict(s.about).get("x5t#S256"), s.thumbprint) if m]
    if not found:
        raise FileError("there is no key in it that could be compared", where=file, mend="`sigillum key read` says what it is")
    return found


def _new(path: Path) -> Path:
    if os.path.lexists(path):
        raise FileError("the file is there already", where=str(path), mend="name another one; a key is never written over")
    return path.absolute()


def _put(path: Path, content: bytes, *, private: bool) -> None:
    """A file for its owner only where it holds something private."""
    from sigillum.keeping.private import write_private

    write_private(path, content)
    if not private:
        path.chmod(0o644)


def _make(args: argparse.Namespace, context: Context) -> Outcome:
    import json

    from sigillum.core.values.canonical import public_half, thumbprint
    from sigillum.keys.material import make_key

    path = _new(args.file)
    public_path = _new(path.with_name(f"{path.stem}.public{path.suffix}"))
    key = make_key(args.algorithm)
    _put(path, (json.dumps(key) + "\n").encode(), private=True)
    _put(public_path, (json.dumps({**public_half(key), "kid": thumbprint(key)}) + "\n").encode(), private=False)
    context.give(
        "key",
        lambda: {"private": str(path), "public": str(public_path), "thumbprint": thumbprint(key)},
        f"The private key stays here: {path.name}\nThe public one may be sent: {public_path.name}\n"
        f"Its thumbprint (RFC 7638): {thumbprint(key)}",
    )
    return Outcome.DONE


def _read(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.cli.views import keys as view
    from sigillum.keys.shapes import OTHER

    found = _shapes(args.file, args.password)
    context.give(
        "shapes",
        {"file": args.file, "holds_private": view.holds_private(found), "found": [s.as_json() for s in found]},
        lambda: view.text(args.file, found, context.ident),
    )
    return Outcome.NO if all(s.kind == OTHER for s in found) else Outcome.DONE


def _check(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.workflows.surveying.keys import check

    marks = thumbprints(args.file, args.password)
    found = check(context.office, context.office.charters([args.against])[0], marks)
    context.give(
        "checked",
        {"charter": args.against, "belongs": [f._asdict() for f in found]},
        *(f"It is generation {f.generation} of {f.credential} of {args.against}: {f.state}." for f in found),
        *([] if found else [f"It belongs to nothing that {args.against} made."]),
    )
    return Outcome.DONE if any(f.alive for f in found) else Outcome.NO


def _take(args: argparse.Namespace, context: Context) -> Outcome:
    import json

    from sigillum.keys.convert import NoFormError, convert
    from sigillum.workflows.surveying.keys import take

    shapes = _shapes(str(args.file), args.password)
    private = [s for s in shapes if s.private and s.key is not None]
    if len(private) != 1:
        raise FileError(
            f"there {'is no private key' if not private else 'are several private keys'} in it",
            where=str(args.file),
            mend="`sigillum key read` says what it is; --password opens an encrypted one",
        )
    try:
        key = json.loads(convert(private[0], "jwk"))
    except NoFormError as problem:
        raise FileError(str(problem), where=str(args.file), mend="convert it first") from problem
    algorithm = {"OKP": "Ed25519", "EC": "ES256", "RSA": "RS256"}.get(str(key.get("kty")), "")
    charter = context.office.charters([args.charter])[0]
    key = {n: v for n, v in key.items() if n not in ("kid", "use", "alg", "key_ops")}
    folders = args.look_in or [args.file.absolute().parent]
    if args.remove and len(shapes) != 1:
        raise UsageError("something else stands in that file, too", where="--remove", mend="remove the key from it yourself")
    found = take(context.office, charter, key, algorithm, args.file, folders)
    if args.remove:
        args.file.unlink()
    copies = [c for c in found.copies if Path(c).exists()]
    theirs = any(w.name == found.belongs.credential and not w.held_here for w in charter.credentials)
    edit = f"Write `keep_in: file` at {found.belongs.credential}: then `sigillum rotate` makes the next key here."
    context.give(
        "taken",
        {"charter": args.charter, **found.belongs._asdict(), "kept": found.kept, "copies": copies},
        f"It is generation {found.belongs.generation} of {found.belongs.credential}, and is kept in {found.kept} now.",
        *(["Remove these copies when nobody reads them any more:", *(f"  {c}" for c in copies)] if copies else []),
        *([edit] if theirs else []),
    )
    return Outcome.DONE


def _convert(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.keys.convert import NoFormError, convert

    all_ = [s for s in _shapes(args.file, args.password) if s.key is not None]
    found = [s for s in all_ if s.private] or all_
    if len({s.thumbprint for s in found}) > 1:
        raise UsageError("the file contains several keys", where=args.file, mend="put each key into its own file")
    shape = next(iter(found), None)
    if shape is None:
        raise FileError(
            "there is no key in it that can be used",
            where=args.file,
            mend="`sigillum key read` says what it is; --password opens an encrypted one",
        )
    private = bool(shape.private) and not args.public
    if args.encrypt and not private:
        raise UsageError("only what is private is encrypted", where="--encrypt", mend="leave it out")
    if private and args.out is None:
        raise UsageError("a private key is not shown on a screen", where="--out", mend="name a new file, or say --public")
    try:
        made = convert(shape, args.form, public=args.public, password=_password(args.encrypt))
    except NoFormError as problem:
        raise UsageError(str(problem), where=f"--form {args.form}", mend="choose another form") from problem
    if args.out is None and args.form in ("der", "pkcs12"):
        raise UsageError("this form is binary", where="--out", mend="name a new file")
    if args.out is None:
        context.document(made.decode())
        return Outcome.DONE
    path = _new(args.out)
    _put(path, made, private=private)
    return _written(args, context, path, private, [])


def _mend(args: argparse.Namespace, context: Context) -> Outcome:
    from sigillum.keys.mending import mend
    from sigillum.keys.shapes import NoShapeError, read

    try:
        mended = mend(_data(args.file))
        private = any(s.private is not False for s in read(mended.data))
    except NoShapeError as problem:
        raise FileError(
            f"it is not certain what was meant: {problem}", where=args.file, mend="ask for it once more, as a file"
        ) from problem
    if not mended.done and args.out is None:
        return _written(args, context, None, private, [])
    if args.out is None:
        raise UsageError("it is not said where the mended one goes", where="--out", mend="name a new file")
    path = _new(args.out)
    _put(path, mended.data, private=private)
    return _written(args, context, path, private, list(mended.done))


def _written(args: argparse.Namespace, context: Context, path: Path | None, private: bool, done: list[str]) -> Outcome:
    told = [*done] or (["Nothing was wrong with it."] if path is None or args.verb == "mend" else [])
    if path is not None:
        told.append(f"Written to {args.out}" + (", readable by you only." if private else "."))
    context.give("key", {"file": str(path) if path is not None else None, "private": private, "done": done}, *told)
    return Outcome.DONE
