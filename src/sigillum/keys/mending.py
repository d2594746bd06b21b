"""Keys that were pasted: what happened to them on the way is undone where that is certain, and else refused with the reason."""

from __future__ import annotations

import base64
import binascii
import html
import re
from collections.abc import Iterator
from typing import NamedTuple

from cryptography import x509
from cryptography.hazmat.primitives import serialization as forms
from cryptography.hazmat.primitives.asymmetric import ec, rsa

from .shapes import MOST_BYTES, TROUBLE, NoShapeError

DASHES = "-\u2010\u2011\u2012\u2013\u2014\u2015\u2212"
_EDGE = re.compile(rf"[{DASHES}]{{1,12}}[ \t]*(BEGIN|END)[ \t]+([A-Z0-9][A-Z0-9 ]{{2,50}}?)[ \t]*[{DASHES}]{{1,12}}", re.I)
_HEADER = re.compile(r"(?m)^\s*(Proc-Type|DEK-Info):.*$")
_ESCAPED = re.compile(r"(?<!\\)\\+(?:r\\+)?n")
QUOTES = {'"': '"', "'": "'", "`": "`", "\u201c": "\u201d", "\u2018": "\u2019", "\u00ab": "\u00bb"}
OPENSSH = b"openssh-key-v1\x00"
WIDTH, WIDTH_OPENSSH = 64, 70


class Mended(NamedTuple):
    """The file as it was meant, and what was done to it; nothing where it was whole."""

    data: bytes
    done: tuple[str, ...]


def mend(data: bytes) -> Mended:
    """Raises NoShapeError where it is not certain what was meant."""
    if len(data) > MOST_BYTES:
        raise NoShapeError(f"it is larger than {MOST_BYTES // 1000} kB")
    done: list[str] = []
    text = _text(data, done)
    text = _unwrapped(text, done)
    edges = list(_EDGE.finditer(text))
    if not edges:
        return _bare(text, done)
    out = [_block(label, body, done) for label, body in _blocks(text, edges, done)]
    made = "".join(out).encode()
    if made == data:
        return Mended(data, ())
    return Mended(made, tuple(dict.fromkeys(done)) or ("its lines were laid out anew",))


def _text(data: bytes, done: list[str]) -> str:
    for mark, name in ((b"\xef\xbb\xbf", "utf-8"), (b"\xff\xfe", "utf-16-le"), (b"\xfe\xff", "utf-16-be")):
        if data.startswith(mark):
            done.append("a mark of its character set was taken away")
            data = data[len(mark) :].decode(name, "replace").encode()
    try:
        text = data.decode("utf-8")
    except UnicodeDecodeError as problem:
        raise NoShapeError("it is no text") from problem
    if "\r" in text:
        done.append("line ends of Windows became usual ones")
        text = text.replace("\r\n", "\n").replace("\r", "\n")
    odd = [c for c in text if c in "\u00a0\u200b\u200c\u200d\u2060\ufeff\u00ad"]
    if odd:
        done.append("characters that cannot be seen were taken away")
        text = text.replace("\u00a0", " ").translate({ord(c): None for c in set(odd) - {"\u00a0"}})
    return text


def _unwrapped(text: str, done: list[str]) -> str:
    """Without quotes around it, escapes in it, and what stands before it on its line."""
    if _ESCAPED.search(text) and ("BEGIN" in text or "\n" not in text.strip()):
        done.append("line ends that were written out became line ends")
        text = _ESCAPED.sub("\n", text)
    if "\\/" in text:
        done.append("escaped slashes became slashes")
        text = text.replace("\\/", "/")
    if re.search(r"&#?\w{1,6};", text):
        done.append("signs that were written out for a web page became signs")
        text = html.unescape(text)
    stripped = text.strip().rstrip(",;").strip()
    first = _EDGE.search(stripped)
    before = stripped[: first.start()].rpartition("\n")[2] if first is not None else ""
    if before.strip(" \t>|#*") and first is not None and first[1].upper() == "BEGIN":
        head = before.strip()
        if head[-1] in QUOTES or head.endswith((":", "=")):
            done.append("the name before it was taken away")
            quote = head[-1] if head[-1] in QUOTES else ""
            stripped = stripped[: first.start() - len(before)] + quote + stripped[first.start() :]
    stripped = stripped.strip()
    if len(stripped) > 1 and stripped[0] in QUOTES and stripped.endswith((QUOTES[stripped[0]], stripped[0])):
        done.append("the quotes around it were taken away")
        stripped = stripped[1:-1].strip()
    return stripped + "\n"


def _blocks(text: str, edges: list[re.Match[str]], done: list[str]) -> Iterator[tuple[str, str]]:
    """Label and body of each block. Raises NoShapeError where a block has one edge only."""
    at = 0
    while at < len(edges):
        begin = edges[at]
        if begin[1].upper() != "BEGIN":
            before = text[: begin.start()]
            if at or not before.strip():
                raise NoShapeError("it has an end, and no beginning")
            done.append("the line at its beginning was put back")
            yield begin[2].upper(), before
            at += 1
            continue
        end = edges[at + 1] if at + 1 < len(edges) and edges[at + 1][1].upper() == "END" else None
        if end is None:
            if at + 1 < len(edges):
                raise NoShapeError("a second one begins before the first has ended")
            done.append("the line at its end was put back")
            yield begin[2].upper(), text[begin.end() :]
            return
        right = (f"-----BEGIN {begin[2].upper()}-----", f"-----END {begin[2].upper()}-----")
        if (begin[0], end[0]) != right:
            done.append("its first or last line was mended")
        yield begin[2].upper(), text[begin.end() : end.start()]
        at += 2


def _bare(text: str, done: list[str]) -> Mended:
    """A body without any edge: what it is says itself."""
    der = _decoded(text, done)
    if der is None:
        raise NoShapeError("it has no line BEGIN, and what stands there is no key that could be recognised")
    label = _label_of(der)
    if label is None:
        raise NoShapeError("it has no line BEGIN, and it cannot be told what it is (it may be encrypted)")
    done.append("the lines at its beginning and end were put back")
    return Mended(_pem(label, der, "").encode(), tuple(dict.fromkeys(done)))


def _block(label: str, body: str, done: list[str]) -> str:
    headers = "".join(f"{m[0].strip()}\n" for m in _HEADER.finditer(body))
    der = _decoded(_HEADER.sub("", body), done, encrypted=bool(headers))
    if der is None:
        raise NoShapeError("its middle part is damaged: letters are missing, or do not belong there")
    if headers:
        return _pem(label, der, headers)
    says = _label_of(der)
    if says is None and label != "ENCRYPTED PRIVATE KEY":
        raise NoShapeError(f"what stands inside is no {label.lower()}, and cannot be told to be something else")
    if says is not None and says != label and {says, label} not in SAME:
        done.append(f"it was called {label.lower()}, and is {says.lower()}")
        label = says
    return _pem(label, der, "")


SAME = ({"CERTIFICATE REQUEST", "NEW CERTIFICATE REQUEST"},)


def _decoded(text: str, done: list[str], *, encrypted: bool = False) -> bytes | None:
    """The bytes of a body: spaces are strays or were plus signs, padding may be lost; just one reading is whole."""
    lines = [re.sub(r"^[\s>|#*]+", "", line) for line in text.strip().splitlines()]
    joined, found = "\n".join(lines), dict[bytes, str]()
    for said, one in (
        ("", re.sub(r"\s", "", joined)),
        ("spaces became the plus signs that they were", re.sub(r"\s", "", re.sub(r"(?<=\S) (?=\S)", "+", joined))),
        ("letters for addresses became usual ones", re.sub(r"\s", "", joined).replace("-", "+").replace("_", "/")),
    ):
        bare = one.rstrip("=")
        padded = bare + "=" * (-len(bare) % 4)
        try:
            der = base64.b64decode(padded, validate=True)
        except (ValueError, binascii.Error):
            continue
        if der and (encrypted or whole(der)):
            found.setdefault(der, said)
            if padded != one:
                found[der] = found[der] or "its last signs were put back"
            if not encrypted:
                break  # its own length says that it is whole
    if len(found) != 1:
        return None
    der, said = next(iter(found.items()))
    done += [said] if said else []
    done += (
        ["stray signs at the beginnings of lines were taken away"]
        if any(a.strip() != b.strip() for a, b in zip(lines, text.strip().splitlines(), strict=True))
        else []
    )
    return der


def whole(der: bytes) -> bool:
    """Does it end where it says itself: a sequence of ASN.1 (X.690 §8.1.3), or a key of OpenSSH?"""
    if der.startswith(OPENSSH):
        return _openssh_whole(der)
    if len(der) < 2 or der[0] != 0x30:
        return False
    if der[1] < 0x80:
        return len(der) == 2 + der[1]
    count = der[1] & 0x7F
    return 0 < count <= 4 and len(der) == 2 + count + int.from_bytes(der[2 : 2 + count], "big")


def _openssh_whole(data: bytes) -> bool:
    """Cipher, key derivation, its options, the number of keys, the public ones, the private part: each says how long it is."""
    at, number = len(OPENSSH), 0
    try:
        for field in range(6):
            if field == 3:
                number, at = int.from_bytes(data[at : at + 4], "big"), at + 4
                if number != 1:
                    return False
                continue
            size = int.from_bytes(data[at : at + 4], "big")
            if len(data) < at + 4 + size:
                return False
            at += 4 + size
    except ValueError:
        return False
    return at == len(data)


def _label_of(der: bytes) -> str | None:
    """What it is, by what the library finds in it; None where it finds nothing."""
    if der.startswith(OPENSSH):
        return "OPENSSH PRIVATE KEY"
    try:
        x509.load_der_x509_certificate(der)
        return "CERTIFICATE"
    except TROUBLE:
        pass
    try:
        x509.load_der_x509_csr(der)
        return "CERTIFICATE REQUEST"
    except TROUBLE:
        pass
    try:
        key = forms.load_der_private_key(der, None)
        return _private_label(der, key)
    except TROUBLE:
        pass
    try:
        public = forms.load_der_public_key(der)
    except TROUBLE:
        return None
    plain = public.public_bytes(forms.Encoding.DER, forms.PublicFormat.SubjectPublicKeyInfo) == der
    return "PUBLIC KEY" if plain else "RSA PUBLIC KEY"


def _private_label(der: bytes, key: object) -> str:
    """Which of the three forms of a private key: the older ones have a version number right at the beginning, PKCS#8 an
    algorithm after it.
    """
    start = 2 if der[1] < 0x80 else 2 + (der[1] & 0x7F)
    after = start + 2 + der[start + 1]
    if after < len(der) and der[after] == 0x30:
        return "PRIVATE KEY"
    return (
        "RSA PRIVATE KEY"
        if isinstance(key, rsa.RSAPrivateKey)
        else "EC PRIVATE KEY"
        if isinstance(key, ec.EllipticCurvePrivateKey)
        else "PRIVATE KEY"
    )


def _pem(label: str, der: bytes, headers: str) -> str:
    body, width = base64.b64encode(der).decode(), WIDTH_OPENSSH if der.startswith(OPENSSH) else WIDTH
    lines = "\n".join(body[i : i + width] for i in range(0, len(body), width))
    return f"-----BEGIN {label}-----\n{headers}{chr(10) if headers else ''}{lines}\n-----END {label}-----\n"
