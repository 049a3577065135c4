"""Why a TLS connection was not made, in words: each fault of a certificate by its name, and an old protocol as that."""

from __future__ import annotations

import socket
import ssl
from pathlib import Path

# X509_V_ERR_… of OpenSSL (openssl-verification-options(1)), as Python gives them in `verify_code`.
_EXPIRED, _NOT_YET, _ANOTHER_HOST = (10,), (9,), (62, 64)
_OLD = ("UNSUPPORTED_PROTOCOL", "ALERT_PROTOCOL_VERSION", "NO_PROTOCOLS_AVAILABLE", "VERSION_TOO_LOW")
_START_TLS = bytes.fromhex("301d02010177188016") + b"1.3.6.1.4.1.1466.20037"  # RFC 4511, 4.14.1, as BER


def tls_fault(error: BaseException | None) -> str:
    """Return what the error behind an error says of TLS, in words; "" where there is none about TLS."""
    while error is not None:
        if isinstance(error, ssl.SSLCertVerificationError):
            return _certificate_fault(error)
        if isinstance(error, ssl.SSLError):
            reason = str(error.reason or "")
            if any(word in reason for word in _OLD):
                return "it speaks no TLS of version 1.2 or later; have it brought up to date"
            return f"no encrypted connection can be made with it ({reason.replace('_', ' ').lower() or 'it ends it'})"
        error = error.__cause__ or error.__context__
    return ""


def _certificate_fault(error: ssl.SSLCertVerificationError) -> str:
    if error.verify_code in _EXPIRED:
        return "its certificate has expired; have it renewed there"
    if error.verify_code in _NOT_YET:
        return "its certificate is not valid yet; compare the clocks, there and here"
    if error.verify_code in _ANOTHER_HOST:
        return "its certificate is for another host; name the host as the certificate has it"
    return (
        "its certificate cannot be verified: an authority that is not known here signed it; "
        "name the certificate authority's file as ca"
    )


def probe(host: str, port: int, authority: Path | None, start_tls: bool, seconds: float) -> str:
    """Return what is wrong with TLS at an LDAP server, in words; "" where nothing is, or where no one answers.

    The LDAP library does not say: a connection is made here only to know, after one that failed. `start_tls` asks for
    TLS first
    (RFC 4511, 4.14); nothing else is sent.
    """
    try:
        context = ssl.create_default_context(cafile=authority)
        with socket.create_connection((host, port), seconds) as plain:
            if start_tls:
                plain.sendall(_START_TLS)
                plain.recv(4096)
            with context.wrap_socket(plain, server_hostname=host):
                return ""
    except OSError as error:  # ssl.SSLError is one
        return tls_fault(error)
