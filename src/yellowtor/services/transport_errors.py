"""Messages for requests without a reply, made from the errors of the HTTP client and the system."""

import errno
import os
import socket
import ssl

import aiohttp

_CERTIFICATE = {  # X509_V_ERR_* of OpenSSL's x509_vfy.h
    9: "is not valid yet",
    10: "has expired",
    18: "is self-signed",
    19: "is signed by an authority that this machine does not know",
    20: "is signed by an authority that this machine does not know",
    21: "is signed by an authority that this machine does not know",
    62: "is for another host",
    64: "is for another address",
}
OTHERS: dict[type[Exception], str] = {
    aiohttp.ServerDisconnectedError: "the server closed the connection without a reply",
    aiohttp.ClientResponseError: "the reply is not HTTP",
    aiohttp.InvalidURL: "the URL that the description makes is not valid",
}
TRUSTED = "trust it with connection.ca, if it is the service's own"


def explain(error: Exception) -> str:
    """One line that explains a transport error."""
    if isinstance(error, aiohttp.ClientConnectorCertificateError):
        return _certificate(error.host, error.port, error.certificate_error)
    if isinstance(error, aiohttp.ClientProxyConnectionError):
        return f"no connection to the proxy {error.host}:{error.port} ({_system(error.os_error)})"
    if isinstance(error, aiohttp.ClientHttpProxyError):
        return f"the proxy refused to connect us: it answered {error.status}"
    if isinstance(error, aiohttp.ClientConnectorDNSError):
        return f"the host {error.host} is not known: no DNS entry"
    if isinstance(error, aiohttp.ClientConnectorError):
        if isinstance(error.os_error, ssl.SSLError):
            return _tls(error.host, error.port, error.os_error)
        return f"no connection to {error.host}:{error.port} ({_system(error.os_error)})"
    for kind, said in OTHERS.items():
        if isinstance(error, kind):
            return said
    if isinstance(error, OSError):
        return f"the connection broke: {_system(error)}"
    return f"the connection broke: {type(error).__name__}"


def _certificate(host: str, port: int | None, error: Exception) -> str:
    if isinstance(error, ssl.SSLCertVerificationError):
        why = _CERTIFICATE.get(error.verify_code, "is not valid")
        hint = f" ({TRUSTED})" if why.endswith(("signed", "know")) else ""
        return f"the certificate of {host}:{port} {why}{hint}"
    return _tls(host, port, error)


def _tls(host: str, port: int | None, error: Exception) -> str:
    if isinstance(error, ssl.SSLCertVerificationError):
        return _certificate(host, port, error)
    reason = str(getattr(error, "reason", None) or "it broke off").lower().replace("_", " ")
    return f"no TLS with {host}:{port}: {reason}"


def _system(error: OSError) -> str:
    """What the system says: the client's own text may hold a URL."""
    if isinstance(error, socket.gaierror):
        return "the host is not known"
    known = error.errno in errno.errorcode if error.errno else False
    return os.strerror(error.errno).lower() if known and error.errno else "refused"
