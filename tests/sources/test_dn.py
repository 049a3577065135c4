"""Distinguished names: the grammar of RFC 4514, held against python-ldap's own parser."""

from __future__ import annotations

import ldap.dn
import pytest
from hypothesis import given
from hypothesis import strategies as st

from usher_gate.sources.dn import NotADn, normal_dn, parse_dn, unit_of

KINDS = st.sampled_from(["ou", "OU", "cn", "dc", "uid", "2.5.4.3"])
VALUES = st.text(st.sampled_from('ab,+"\\<>;=# /ÄßIi\u0130\u4e2d0'), min_size=1, max_size=6)


@pytest.mark.parametrize(("text", "unit"), [
    ("uid=ada,ou=Deck\\2C fore,o=x", "/Deck, fore"), ("uid=ada,ou=Deck\\, fore,o=x", "/Deck, fore"), ('uid=ada,ou="Deck, fore",o=x', "/Deck, fore"),
    ("uid = ada , OU = Deck , ou = Fleet , o=x", "/Fleet/Deck"), ("uid=ada+cn=Ada,ou=A+l=here,o=x", "/A"), ("uid=ada,o=x", ""), ("nonsense", ""),
    ("uid=ada,ou=Sea/Land,o=x", "/Sea-Land"), ("uid=ada,ou=\\c3\\84rger,o=x", "/Ärger"), ("uid=ada,ou=\\ff,o=x", ""), ("uid=ada,2.5.4.11=Deck,o=x", "/Deck"),
    ("uid=ada,ou=Deck;ou=Fleet", "/Fleet/Deck"), ("uid=ada,ou=  Deck  fore  ,o=x", "/Deck fore"),
])  # fmt: skip
def test_the_unit_of_a_dn(text: str, unit: str) -> None:
    assert unit_of(text) == unit


@pytest.mark.parametrize(("one", "other"), [
    ("ou=Deck\\2C fore,o=x", "ou=Deck\\, fore,o=x"), ("ou=Deck\\2c fore,o=x", 'OU = "deck, fore" , O = X'), ("cn=a+uid=b,o=x", "uid=B+cn=A, o=x"),
    ("cn=Ada  Brandt,o=x", "cn=ada brandt,o=x"), ("cn=Stra\\C3\\9Fe", "cn=STRASSE"), ("cn=a\\20", "cn=a"), ("cn=\\#5", "cn=\\235"),
])  # fmt: skip
def test_dns_that_are_the_same(one: str, other: str) -> None:
    assert normal_dn(one) == normal_dn(other)


@pytest.mark.parametrize(
    ("one", "other"),
    [("cn=a\\,b", "cn=a,cn=b"), ("cn=a\\+cn=b", "cn=a+cn=b"), ("cn=ab", "cn=a b"), ("cn=a\\=b", "cn=a")],
)
def test_dns_that_differ(one: str, other: str) -> None:
    assert normal_dn(one) != normal_dn(other)


@pytest.mark.parametrize(
    "text",
    [
        "a",
        "=a",
        "cn=a,",
        "cn=a,,o=x",
        'cn="a',
        'cn="a"b',
        "cn=a\\",
        "cn=a\\zz",
        "cn=#",
        "cn=a<b",
        "c n=a",
        "cn=\\ff",
        'cn=a"b',
    ],
)
def test_what_is_no_dn(text: str) -> None:
    with pytest.raises(NotADn):
        parse_dn(text)


@given(st.lists(st.lists(st.tuples(KINDS, VALUES), min_size=1, max_size=2), min_size=1, max_size=4), st.data())
def test_any_dn_is_read_as_the_library_of_openldap_reads_it(
    names: list[list[tuple[str, str]]], data: st.DataObject
) -> None:
    made = [[(kind, value, 1) for kind, value in parts] for parts in names]
    escaped = ldap.dn.dn2str(made)
    expected = [[(kind.casefold(), value) for kind, value in parts] for parts in names]
    assert parse_dn(escaped) == expected
    assert [[(kind.casefold(), value) for kind, value, _ in parts] for parts in ldap.dn.str2dn(escaped)] == expected
    by_hex = ",".join(
        "+".join(f"{kind}=" + "".join(f"\\{byte:02X}" for byte in value.encode()) for kind, value in parts)
        for parts in names
    )
    spaced = by_hex.replace("=", data.draw(st.sampled_from(["=", " = ", "= "]))).replace(",", " , ")
    assert normal_dn(by_hex) == normal_dn(escaped) == normal_dn(spaced)
