"""Who may connect: an interface that others reach is told, and a list of addresses keeps them out."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable

from spokeshave.fieldbus import FieldbusError

MOST_PORT = 65535
Network = ipaddress.IPv4Network | ipaddress.IPv6Network


class AccessError(FieldbusError, ValueError):
    """No address and no network."""


def networks(texts: Iterable[str]) -> tuple[Network, ...]:
    """Addresses and networks such as `192.0.2.7` and `192.0.2.0/24`. Raises `AccessError`."""
    found = []
    for text in texts:
        try:
            found.append(ipaddress.ip_network(text.strip(), strict=False))
        except ValueError:
            raise AccessError(f"{text!r} is no address; write 192.0.2.7, or 192.0.2.0/24 for a network") from None
    return tuple(found)


def host_and_port(text: str, least: int = 0) -> tuple[str, int]:
    """An address such as `127.0.0.1:5020` or `[::1]:5020`. Raises `AccessError` for another, and for a port below `least`.

    >>> host_and_port(" [::1]:5020 ")
    ('[::1]', 5020)
    """
    host, _, port = text.strip().rpartition(":")
    if not host or not (port.isascii() and port.isdigit()) or not least <= int(port) <= MOST_PORT:
        raise AccessError("write HOST:PORT, for example 127.0.0.1:5020")
    return host, int(port)


def may_connect(peer: str, allowed: tuple[Network, ...]) -> bool:
    """Whether a client at an address is let in; everybody is without a list.

    >>> may_connect("192.0.2.9", networks(["192.0.2.0/24"])), may_connect("198.51.100.1", networks(["192.0.2.0/24"]))
    (True, False)
    """
    if not allowed:
        return True
    try:
        address = ipaddress.ip_address(peer.partition("%")[0])
    except ValueError:
        return False
    mapped = getattr(address, "ipv4_mapped", None)
    return any((mapped or address) in network for network in allowed)


def is_open(host: str) -> bool:
    """Whether other machines reach what listens at `host`.

    >>> is_open("127.0.0.1"), is_open("localhost"), is_open("0.0.0.0"), is_open("::1")
    (False, False, True, False)
    """
    try:
        return not ipaddress.ip_address(host.strip("[]")).is_loopback
    except ValueError:
        return host.lower() != "localhost"


def warning(host: str, allowed: tuple[Network, ...], writes: bool) -> str:
    """What to say about an open interface; an empty text where there is nothing to say."""
    if not is_open(host) or allowed:
        return ""
    does = "write what clients may write" if writes else "read everything"
    return f"whoever reaches {host} can connect and {does}; say who may"
