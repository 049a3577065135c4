"""LDAP v3 (RFC 4510 and following): paged, over TLS with verified certificates unless plain is asked for by name."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from typing import Any

from ..core.words.record import record
from ..files.faults import UsherError
from .address import address_of
from .entries import Entries, Layout, tables
from .interface import Context, Gathered, Provides, SourceFailed
from .tls import probe

_PAGE = 500
_MOST_PAGES = 100_000
_MOST_EMPTY = 100  # pages in a row, each with a new cookie


@record
class Binding:
    """Says where the directory is and which account asks.

    `tls` is ldaps (by the URL), starttls or plain; `bind` is simple or external.
    """

    url: str
    tls: str = "starttls"
    bind: str = "simple"
    user: str = ""
    password: str = ""
    ca: str = ""
    certificate: str = ""
    key: str = ""
    timeout: float = 30.0
    page: int = _PAGE


class Ldap:
    """A live directory."""

    gives = Provides(frozenset(("people", "groups", "members")), needed=frozenset(("people",)))

    def __init__(self, binding: Binding, layout: Layout) -> None:
        self._binding, self._layout = binding, layout
        self._referrals, self._seen = 0, 0

    def gather(self, context: Context) -> Gathered:
        """Return people and groups; raises SourceFailed, or UsherError for want of a library."""
        try:
            import ldap
        except ImportError:
            raise UsherError("LDAP needs python-ldap; pip install 'usher-gate[ldap]'") from None
        password = context.secrets.fetch(self._binding.password) if self._binding.password else ""
        try:
            connection = self._connect(ldap, context)
            try:
                self._bind(connection, password)
                found = tables(
                    self._pages(ldap, connection, context),
                    self._layout,
                    partial(self._names, ldap, connection),
                    context,
                )
            finally:
                connection.unbind_ext_s()
        except ldap.LDAPError as error:
            words = _words(ldap, error, self._binding, context)
            if self._seen and isinstance(error, ldap.SERVER_DOWN):
                words = f"the connection ended after {self._seen:,} entries, before all were there"
            raise SourceFailed(context.secrets.hide(f"{self._binding.url}: {words}")) from None
        if self._referrals:
            found.notes.append(f"referrals to other servers, which are not followed: {self._referrals:,}")
        return found

    def _connect(self, ldap: Any, context: Context) -> Any:
        """Connect to the directory server, encrypted unless it is local or the settings say otherwise."""
        binding = self._binding
        where = address_of(binding.url, ("ldap", "ldaps", "ldapi"))
        tls = where.encrypted or (where.scheme == "ldap" and binding.tls == "starttls")
        if not (tls or where.scheme == "ldapi" or where.loopback or binding.tls == "plain"):
            raise UsherError(
                f'{binding.url} is not encrypted; write ldaps://, tls = "starttls", or tls = "plain" if it must be'
            )
        connection = ldap.initialize(binding.url)
        connection.protocol_version = ldap.VERSION3
        connection.set_option(ldap.OPT_REFERRALS, 0)
        connection.set_option(ldap.OPT_NETWORK_TIMEOUT, binding.timeout)
        connection.set_option(ldap.OPT_TIMEOUT, binding.timeout)
        if tls:
            connection.set_option(ldap.OPT_X_TLS_REQUIRE_CERT, ldap.OPT_X_TLS_DEMAND)
            for option, name in (
                (ldap.OPT_X_TLS_CACERTFILE, binding.ca),
                (ldap.OPT_X_TLS_CERTFILE, binding.certificate),
                (ldap.OPT_X_TLS_KEYFILE, binding.key),
            ):
                if name:
                    path = context.folder / name
                    if not path.is_file():
                        raise UsherError(f"{path} does not exist; name a file of certificates (PEM)")
                    connection.set_option(option, str(path))
            connection.set_option(ldap.OPT_X_TLS_NEWCTX, 0)  # last, or the others do not count
        if tls and not where.encrypted:
            connection.start_tls_s()
        return connection

    def _bind(self, connection: Any, password: str) -> None:
        if self._binding.bind == "external":
            from ldap.sasl import external

            connection.sasl_interactive_bind_s("", external())
        elif self._binding.user:
            connection.simple_bind_s(self._binding.user, password)

    def _pages(self, ldap: Any, connection: Any, context: Context) -> Iterator[Entries]:
        """Yield all entries of people and groups, page by page (RFC 2696)."""
        from ldap.controls import SimplePagedResultsControl

        layout, binding = self._layout, self._binding
        wanted = [*layout.wanted(), "entryUUID", "createTimestamp"]
        find = f"(|(objectClass={layout.people})(objectClass={layout.groups}))"
        control = SimplePagedResultsControl(True, size=binding.page, cookie="")
        begins, empty = set[str](), 0  # with which entries pages began, and how many pages in a row had none
        cookies = set[bytes]()
        self._referrals = self._seen = 0
        for _ in range(_MOST_PAGES):
            number = connection.search_ext(
                layout.base, ldap.SCOPE_SUBTREE, find, wanted, serverctrls=[control], timeout=binding.timeout
            )
            _, data, _, controls = connection.result3(number, timeout=binding.timeout)
            page = [
                (dn, {name.partition(";")[0].lower(): values for name, values in attributes.items()})
                for dn, attributes in data
                if dn is not None  # a referral has none
            ]
            self._referrals += len(data) - len(page)
            empty = 0 if page else empty + 1
            if (page and page[0][0] in begins) or empty > _MOST_EMPTY:
                raise SourceFailed(f"{binding.url}: gives the same page again, or empty pages without an end")
            if not page and control.cookie in cookies:
                raise SourceFailed(f"{binding.url}: gives an empty page and the same cookie again")
            cookies.add(control.cookie)
            begins.update(dn for dn, _ in page[:1])
            self._seen += len(page)
            yield Entries(page)
            context.progress("entries", self._seen, 0)
            after = [
                one_control.cookie
                for one_control in controls
                if one_control.controlType == SimplePagedResultsControl.controlType
            ]
            if not after:
                raise SourceFailed(
                    f"{binding.url}: does not page its results (RFC 2696), so no one knows whether they are whole"
                )
            if not after[0]:
                return
            control.cookie = after[0]
        raise SourceFailed(f"{binding.url}: gives page after page without an end")

    def _names(self, ldap: Any, connection: Any) -> set[str]:
        """Return the names of the attributes that the first few people have."""
        from ldap.controls import SimplePagedResultsControl

        binding, find = self._binding, f"(objectClass={self._layout.people})"
        page = SimplePagedResultsControl(True, size=_PAGE, cookie="")
        number = connection.search_ext(
            self._layout.base, ldap.SCOPE_SUBTREE, find, ["*", "+"], 1, serverctrls=[page], timeout=binding.timeout
        )
        _, data, _, _ = connection.result3(number, timeout=binding.timeout)
        return {name.partition(";")[0] for dn, attributes in data if dn is not None for name in attributes}


def _words(ldap: Any, error: Exception, binding: Binding, context: Context) -> str:
    """Return what went wrong, in words; the library leaves most TLS errors unexplained, so the server is asked again to
    know."""
    details = error.args[0] if error.args and isinstance(error.args[0], dict) else {}
    info = str(details.get("info", "")).replace("\n", " ")[:160]
    if isinstance(error, ldap.SERVER_DOWN | ldap.CONNECT_ERROR):
        where = address_of(binding.url, ("ldap", "ldaps", "ldapi"))
        if where.encrypted or (where.scheme == "ldap" and binding.tls == "starttls"):
            authority = context.folder / binding.ca if binding.ca else None
            if fault := probe(where.host, where.port, authority, not where.encrypted, binding.timeout):
                return fault
        if "certificate" in info.lower() or "unknown error" in info.lower():
            return "its certificate cannot be verified; name the certificate authority's file as ca"
        return "no one answers there" + (" with TLS" if binding.url.startswith("ldaps://") else "")
    words = {
        ldap.INVALID_CREDENTIALS: "refuses this user and password",
        ldap.TIMEOUT: f"no answer within {binding.timeout:g} seconds",
        ldap.SIZELIMIT_EXCEEDED: "stops at its size limit in spite of paging; raise its limit for this user",
        ldap.NO_SUCH_OBJECT: "has no such base",
        ldap.INSUFFICIENT_ACCESS: "does not let this user read",
        ldap.CONFIDENTIALITY_REQUIRED: 'wants encryption first; write tls = "starttls" or ldaps://',
    }
    said = next(
        (text for kind, text in words.items() if isinstance(error, kind)),
        str(details.get("desc", error.__class__.__name__)),
    )
    return said + (f" ({info})" if info and said == details.get("desc") else "")
