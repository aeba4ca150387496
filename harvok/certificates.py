"""Certificates that nobody has to issue: an end is known by its certificate, or by nothing."""


def self_signed() -> bytes:
    """A new key (ECDSA on P-256) and its certificate, both PEM in one. It never expires: benches have clocks of all
    kinds."""
    import datetime

    from cryptography import x509
    from cryptography.hazmat.primitives import hashes, serialization
    from cryptography.hazmat.primitives.asymmetric import ec

    key = ec.generate_private_key(ec.SECP256R1())
    serial = x509.random_serial_number()
    # TLS looks certificates up by their names, so that no two of them may have one
    name = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, f"harvok {serial:x}")])
    certificate = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(key.public_key())
        .serial_number(serial)
        .not_valid_before(datetime.datetime(1970, 1, 1))
        .not_valid_after(datetime.datetime(9999, 12, 31))
        .add_extension(x509.BasicConstraints(ca=False, path_length=None), critical=True)
        .sign(key, hashes.SHA256())
    )
    secret = key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )
    return secret + certificate.public_bytes(serialization.Encoding.PEM)


def sign(identity: bytes, message: bytes) -> bytes:
    """The signature (ECDSA with SHA-256) of a message by the key in PEM, such as `self_signed` makes."""
    from cryptography.hazmat.primitives import hashes, serialization
    from cryptography.hazmat.primitives.asymmetric import ec

    key = serialization.load_pem_private_key(identity, None)
    assert isinstance(key, ec.EllipticCurvePrivateKey)
    return key.sign(message, ec.ECDSA(hashes.SHA256()))


def is_signed_by(certificate: str, message: bytes, signature: bytes) -> bool:
    """Whether the key of a certificate (PEM) signed a message."""
    from cryptography import exceptions, x509
    from cryptography.hazmat.primitives import hashes
    from cryptography.hazmat.primitives.asymmetric import ec

    key = x509.load_pem_x509_certificate(certificate.encode()).public_key()
    if not isinstance(key, ec.EllipticCurvePublicKey):
        return False
    try:
        key.verify(signature, message, ec.ECDSA(hashes.SHA256()))
    except exceptions.InvalidSignature:
        return False
    return True
