"""Named networks cut the address space into classes: the addresses that lie in just the same networks.

Addresses are whole numbers with their version; IPv4-mapped IPv6 addresses are IPv4 (RFC 4291, section 2.5.5.2).
"""

from __future__ import annotations

from bisect import bisect_right
from collections import Counter
from collections.abc import Mapping, Sequence
from functools import cached_property
from itertools import zip_longest
from socket import AF_INET, inet_pton

from ..words.record import record
from ..words.vocabulary import ELSEWHERE

Span = tuple[int, int, int]  # version, first, last
_SPACE = {4: (1 << 32) - 1, 6: (1 << 128) - 1}
_MAPPED = 0xFFFF << 32
# Addresses that documentation may use (RFC 5737, RFC 3849), to show one outside all networks.
_EXAMPLES = ("203.0.113.9", "198.51.100.9", "192.0.2.9", "2001:db8::9")


def span_of(text: str) -> Span:
    """Return a CIDR range as a span; raises ValueError."""
    import ipaddress

    network = ipaddress.ip_network(text)
    first, last = int(network.network_address), int(network.broadcast_address)
    if network.version == 6 and first >> 32 == 0xFFFF and last >> 32 == 0xFFFF:
        return 4, first - _MAPPED, last - _MAPPED
    return network.version, first, last


def address_of(text: str) -> tuple[int, int]:
    """Return an address as (version, number); raises ValueError."""
    import ipaddress

    address = ipaddress.ip_address(text)
    if isinstance(address, ipaddress.IPv6Address) and address.ipv4_mapped is not None:
        address = address.ipv4_mapped
    return address.version, int(address)


def _text(version: int, number: int) -> str:
    import ipaddress

    return str(ipaddress.IPv4Address(number) if version == 4 else ipaddress.IPv6Address(number))


@record
class NetworkClass:
    """Addresses that lie in just these networks (none: elsewhere), and one of them."""

    names: frozenset[str]
    address: str

    @property
    def text(self) -> str:
        """Return the class in words."""
        return "+".join(sorted(self.names)) or ELSEWHERE


class Networks:
    """The organisation's named networks."""

    def __init__(self, spans: Mapping[str, Sequence[Span]]) -> None:
        self.spans = spans

    def containing(self, address: str) -> frozenset[str]:
        """Return the networks that an address lies in; raises ValueError."""
        version, number = address_of(address)
        return frozenset(
            name
            for name, spans in self.spans.items()
            if any(span[0] == version and span[1] <= number <= span[2] for span in spans)
        )

    @cached_property
    def _pieces(self) -> list[tuple[int, int, int, frozenset[str]]]:
        """Return the whole address space in runs of addresses of one class."""
        found = []
        for version, end in _SPACE.items():
            cuts: dict[int, list[tuple[str, int]]] = {0: []}
            for name, spans in self.spans.items():
                for _, first, last in (span for span in spans if span[0] == version):
                    cuts.setdefault(first, []).append((name, 1))
                    cuts.setdefault(last + 1, []).append((name, -1))
            inside: Counter[str] = Counter()  # how many spans of each network hold the address that the sweep is at
            here = frozenset[str]()
            ordered = sorted(cuts)
            for cut, after in zip_longest(ordered, ordered[1:], fillvalue=end + 1):
                for name, step in cuts[cut]:
                    inside[name] += step
                    if not inside[name]:
                        del inside[name]
                here = frozenset(inside) if cuts[cut] else here
                if cut <= end:
                    found.append((version, cut, after - 1, here))
        return found

    @cached_property
    def classes(self) -> tuple[NetworkClass, ...]:
        """Return every class, by its names; elsewhere, if there is any, last."""
        found: dict[frozenset[str], str] = {}
        for version, first, last, names in self._pieces:
            found.setdefault(names, _text(version, min(first + 1, last)))
        outside = frozenset[str]()
        if outside in found:
            found[outside] = next((address for address in _EXAMPLES if not self.containing(address)), found[outside])
        return tuple(
            NetworkClass(names, found[names]) for names in sorted(found, key=lambda some: (not some, sorted(some)))
        )

    @cached_property
    def _starts(self) -> dict[int, tuple[list[int], list[frozenset[str]]]]:
        """Return where the runs of each version begin, and what is in each."""
        found: dict[int, tuple[list[int], list[frozenset[str]]]] = {version: ([], []) for version in _SPACE}
        for version, first, _, names in self._pieces:
            found[version][0].append(first)
            found[version][1].append(names)
        return found

    def at(self, address: str) -> frozenset[str] | None:
        """As `containing`, for many addresses: by binary search; None for what is no address."""
        try:
            if ":" in address:
                version, number = address_of(address)
            else:
                version, number = 4, int.from_bytes(inet_pton(AF_INET, address))
        except (OSError, ValueError):
            return None
        starts, names = self._starts[version]
        return names[bisect_right(starts, number) - 1]

    def around(self, name: str) -> frozenset[str]:
        """Return the networks that wholly contain a named one, itself included."""
        inside = [names for _, _, _, names in self._pieces if name in names]
        return frozenset.intersection(*inside) if inside else frozenset((name,))
