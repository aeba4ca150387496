"""A report's seal: whether its text is the one that was written, on which records it rests, and what it was judged by.

The last line of a page (HTML, Markdown, XML) is the seal, in a comment; a JSON document has it as its last member;
a PDF has it as an attachment, and beside a CSV file there is
a file with it. With a key of the operator's (Ed25519, RFC 8032) the seal is signed;
without, it is a digest, which tells an accident and not somebody who makes it anew."""

import hashlib
import io
import json
import re
from dataclasses import asdict, dataclass, field, replace
from pathlib import Path
from typing import Any

from harvok.errors import UsageError

_COMMENT = re.compile(rb"\n<!-- harvok-seal (\{.*\}) -->\n\Z")
_ATTACHED = re.compile(rb"harvok-seal (\{[^\n]*\})\n")
"""In a PDF, whose attachment is neither compressed nor cut into lines."""
_ATTACHMENT = "harvok-seal.json"
_PAGES = (".html", ".md", ".xml")
_BESIDE = ".seal"


@dataclass(frozen=True, slots=True)
class Seal:
    """`text` is the SHA-256 of the report without its seal, `records` that of the records of `runs`. `names`, `plan`
    and `changed` are what it was made of, so that it can be judged again; `key` and `signature` are hexadecimal."""

    text: str
    records: str
    runs: list[str]
    verdict: str = ""
    names: list[str] = field(default_factory=list)
    plan: str = ""
    changed: list[str] = field(default_factory=list)
    key: str = ""
    signature: str = ""

    @property
    def signed_part(self) -> bytes:
        """What the signature is of."""
        return json.dumps({**asdict(self), "signature": ""}, sort_keys=True).encode()

    def signed_by(self, private_key: bytes) -> "Seal":
        """The seal, signed with a key in PEM."""
        named = replace(self, key=public_part(private_key))
        return replace(named, signature=_private(private_key).sign(named.signed_part).hex())

    @property
    def has_its_signature(self) -> bool:
        """Whether the key that it names signed it."""
        from cryptography.exceptions import InvalidSignature
        from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey

        try:
            key = Ed25519PublicKey.from_public_bytes(bytes.fromhex(self.key))
            key.verify(bytes.fromhex(self.signature), self.signed_part)
        except (ValueError, InvalidSignature):
            return False
        return True


def _private(pem: bytes) -> Any:
    from cryptography.hazmat.primitives import serialization
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

    key = serialization.load_pem_private_key(pem, None)
    if not isinstance(key, Ed25519PrivateKey):
        raise UsageError("the report key is of another kind than Ed25519", "Remove it, and make one anew.")
    return key


def new_key() -> bytes:
    """A key to sign reports with, PEM."""
    from cryptography.hazmat.primitives import serialization
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

    form = serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    return Ed25519PrivateKey.generate().private_bytes(*form)


def public_part(pem: bytes) -> str:
    """The public half of a key, hexadecimal: what a customer is given beforehand."""
    from cryptography.hazmat.primitives import serialization

    raw = serialization.Encoding.Raw, serialization.PublicFormat.Raw
    return str(_private(pem).public_key().public_bytes(*raw).hex())


def put_seal(path: Path, seal: Seal, private_key: bytes | None) -> None:
    """Seals a report that was just written; `text` of the given seal is filled in."""
    content = path.read_bytes()
    if path.suffix == ".pdf":
        path.write_bytes(_attached(content, seal, private_key))
        return
    whole = replace(seal, text=_digest(path, content))
    whole = whole.signed_by(private_key) if private_key else whole
    text = json.dumps(asdict(whole), sort_keys=True)
    if path.suffix == ".json":
        document = {**json.loads(content), "seal": asdict(whole)}
        path.write_bytes(json.dumps(document, indent=2, ensure_ascii=False).encode() + b"\n")
    elif path.suffix in _PAGES:
        escaped = text.replace("--", "-\\u002d").encode()  # no comment has two hyphens inside
        path.write_bytes(content + b"\n<!-- harvok-seal " + escaped + b" -->\n")
    else:
        _beside(path).write_bytes(text.encode() + b"\n")


def _attached(pdf: bytes, seal: Seal, private_key: bytes | None) -> bytes:
    """A PDF with its seal as an attachment. The seal is of every byte but its own, so room is made for it first, of
    the size that it will have."""
    from pypdf import PdfWriter

    room = replace(seal, text=_digest_of(b""))
    room = room.signed_by(private_key) if private_key else room
    writer = PdfWriter(io.BytesIO(pdf), incremental=True)
    writer.add_attachment(_ATTACHMENT, _line(room))
    with_room = io.BytesIO()
    writer.write(with_room)
    content = with_room.getvalue()
    whole = replace(seal, text=_digest_of(_ATTACHED.sub(b"", content)))
    whole = whole.signed_by(private_key) if private_key else whole
    return content.replace(_line(room), _line(whole))


def _line(seal: Seal) -> bytes:
    return b"harvok-seal " + json.dumps(asdict(seal), sort_keys=True).encode() + b"\n"


def read_seal(path: Path) -> tuple[Seal, bool] | None:
    """The seal of a report, and whether the text is the one that was sealed; None where there is none. Raises
    UsageError for a file that cannot be read."""
    try:
        content = path.read_bytes()
        found, rest = _taken_apart(path, content)
        if found is None:
            return None
        seal = Seal(**_checked(found))
    except OSError as error:
        raise UsageError(f"{path} cannot be read: {error.strerror}", "Name a report that Harvok wrote.") from error
    except (ValueError, TypeError, KeyError, AttributeError) as error:
        raise UsageError(f"the seal of {path} is not readable", "It was altered, or is of a later version.") from error
    return seal, seal.text == _digest(path, rest)


def _checked(found: Any) -> dict[str, Any]:
    """The members of a seal, texts and lists of texts. Raises ValueError: a report may come from anybody."""
    for value in found.values():
        if not isinstance(value, str) and not (isinstance(value, list) and all(isinstance(one, str) for one in value)):
            raise ValueError("no seal has such a member")
    return dict(found)


def _taken_apart(path: Path, content: bytes) -> tuple[dict[str, Any] | None, bytes]:
    """The seal of a report, and the report without it."""
    if path.suffix == ".json":
        document = json.loads(content)
        return document.pop("seal", None), json.dumps(document).encode()
    if path.suffix in _PAGES:
        match = _COMMENT.search(content)
        return (json.loads(match[1]), content[: match.start()]) if match else (None, content)
    if path.suffix == ".pdf" and len(found := _ATTACHED.findall(content)) == 1:
        return json.loads(found[0]), _ATTACHED.sub(b"", content)
    beside = _beside(path)
    return (json.loads(beside.read_bytes()), content) if beside.exists() else (None, content)


def _digest(path: Path, content: bytes) -> str:
    """Of a JSON document as it means, of anything else byte by byte."""
    if path.suffix == ".json":
        content = json.dumps(json.loads(content), sort_keys=True).encode()
    return _digest_of(content)


def _digest_of(content: bytes) -> str:
    return hashlib.sha256(content).hexdigest()


def _beside(path: Path) -> Path:
    return path.with_name(path.name + _BESIDE)
