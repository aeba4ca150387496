"""Who this user is to stations and near ends elsewhere, and who they are: keys and certificates without an authority.

A user has one key, made when it is first needed, with a certificate that it signed itself. The other end's certificate
is believed once its pairing code (core.wire.pairing) was compared by a person, and is remembered from then on.
"""

import json
import os
import ssl
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from harvok.certificates import is_signed_by, self_signed, sign
from harvok.core.wire.pairing import pairing_code
from harvok.errors import StateError
from harvok.host.state import check_own, create_private, replace_private

KEYS_FOLDER = "HARVOK_KEYS"
"""The environment variable that names another folder for keys."""

TLS_NAME = "station"
"""What a near end calls the station in clear: no name that means anything."""

_IDENTITY, _STATIONS, _NEAR_ENDS = "identity.pem", "stations.json", "near-ends.json"
_MAX_CERTIFICATE_CHARACTERS = 8000


@dataclass(frozen=True, slots=True)
class Known:
    """Somebody whose certificate (PEM) is believed: a station by where it is, or a near end by its name."""

    name: str
    certificate: str
    since: str

    @property
    def code(self) -> str:
        """The pairing code of the certificate."""
        return pairing_code(ssl.PEM_cert_to_DER_cert(self.certificate))

    def has_signed(self, message: bytes, signature: str) -> bool:
        """Whether this one signed a message; the signature is hexadecimal."""
        return is_signed_by(self.certificate, message, bytes.fromhex(signature))


@dataclass(frozen=True, slots=True)
class Keys:
    """A folder with this user's own key and with those whom he knows. Raises StateError for files of other users."""

    folder: Path

    @property
    def identity(self) -> Path:
        """The file with this user's key and certificate, made where it is missing."""
        path = self.folder / _IDENTITY
        if not path.exists():
            self._make_folder()
            _make_identity(path)
        check_own(path)
        return path

    @property
    def has_identity(self) -> bool:
        return (self.folder / _IDENTITY).exists()

    @property
    def certificate(self) -> str:
        """This user's own certificate, PEM."""
        text = self.identity.read_text()
        return text[text.index("-----BEGIN CERTIFICATE-----") :]

    @property
    def code(self) -> str:
        """This user's own pairing code."""
        return pairing_code(ssl.PEM_cert_to_DER_cert(self.certificate))

    def sign(self, message: bytes) -> str:
        """This user's signature of a message, hexadecimal."""
        return sign(self.identity.read_bytes(), message).hex()

    def station(self, place: str) -> Known | None:
        """The station at `host:port`, if it is known."""
        return self._read(_STATIONS).get(place)

    def stations(self) -> list[Known]:
        """Every station that is known."""
        return list(self._read(_STATIONS).values())

    def near_ends(self) -> list[Known]:
        """Every near end that is known."""
        return list(self._read(_NEAR_ENDS).values())

    def learn_station(self, one: Known) -> None:
        """Believes this station from now on, in place of one that was there before."""
        self._write(_STATIONS, self._read(_STATIONS) | {one.name: one})

    def learn_near_end(self, one: Known) -> None:
        """Believes this near end from now on, in place of one of the same name."""
        self._write(_NEAR_ENDS, self._read(_NEAR_ENDS) | {one.name: one})

    def forget(self, name: str) -> bool:
        """Believes nobody of that name any more; False when nobody is known by it."""
        found = False
        for file in (_STATIONS, _NEAR_ENDS):
            known = self._read(file)
            if known.pop(name, None):
                self._write(file, known)
                found = True
        return found

    def _read(self, name: str) -> dict[str, Known]:
        path = self.folder / name
        if not path.exists():
            return {}
        check_own(path)
        try:
            read: dict[str, Any] = json.loads(path.read_text(encoding="utf-8"))
            return {key: Known(key, str(one["certificate"]), str(one["since"])) for key, one in read.items()}
        except (OSError, ValueError, TypeError, KeyError, AttributeError) as error:
            raise StateError(f"{path} is not readable: {error}", f"Remove it, and pair again: rm '{path}'") from error

    def _write(self, name: str, known: Mapping[str, Known]) -> None:
        self._make_folder()
        text = json.dumps(
            {key: {"certificate": one.certificate, "since": one.since} for key, one in known.items()}, indent=2
        )
        replace_private(self.folder / name, text + "\n")

    def _make_folder(self) -> None:
        try:
            self.folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        except OSError as error:
            raise StateError(
                f"the folder for keys, {self.folder}, cannot be made: {error.strerror}",
                f"Name a folder of your own in the environment variable {KEYS_FOLDER}.",
            ) from error


def own_keys() -> Keys:
    """The keys of this user."""
    named = os.environ.get(KEYS_FOLDER)
    if named:
        return Keys(Path(named))
    from platformdirs import user_data_path

    return Keys(Path(user_data_path("harvok")) / "keys")


def is_certificate(text: str) -> bool:
    """Whether a text is one certificate, in PEM."""
    try:
        return len(text) < _MAX_CERTIFICATE_CHARACTERS and bool(ssl.PEM_cert_to_DER_cert(text.strip()))
    except ValueError:
        return False


def server_context(keys: Keys, only_paired: bool) -> ssl.SSLContext:
    """TLS 1.3 for a station; `only_paired` serves near ends alone whose certificates are known."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.minimum_version = ssl.TLSVersion.TLSv1_3
    context.num_tickets = 0
    context.load_cert_chain(keys.identity)
    if only_paired:
        context.verify_mode = ssl.CERT_REQUIRED
        for one in keys.near_ends():
            context.load_verify_locations(cadata=one.certificate)
    return context


def client_context(keys: Keys, certificate: str) -> ssl.SSLContext:
    """TLS 1.3 for a near end, to the station with that certificate and to no other."""
    context = _client()
    context.load_verify_locations(cadata=certificate)
    if keys.has_identity:
        context.load_cert_chain(keys.identity)
    return context


def first_look_context() -> ssl.SSLContext:
    """TLS 1.3 to whoever answers, to see his certificate: nothing may be said to him."""
    context = _client()
    context.verify_mode = ssl.CERT_NONE
    return context


def _client() -> ssl.SSLContext:
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.minimum_version = ssl.TLSVersion.TLSv1_3
    context.check_hostname = False  # it is the certificate that is known, not a name in it
    return context


def _make_identity(path: Path) -> None:
    """A key and its certificate, in a file."""
    fresh = path.with_name(f"{path.name}.{os.getpid()}")
    fresh.unlink(missing_ok=True)
    with create_private(fresh) as file:
        file.write(self_signed().decode())
    try:
        os.link(fresh, path)  # not in place of one that another process made meanwhile
    except FileExistsError:
        pass
    finally:
        fresh.unlink()
