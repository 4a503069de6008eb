"""Hosts: which addresses are this machine's own."""

from __future__ import annotations

from ipaddress import ip_address


def is_loopback(address: str) -> bool:
    """Returns whether an IP address is this machine's own, so that nothing said to it crosses a network.  A name is
    none, whatever it stands for."""
    try:
        found = ip_address(address.partition("%")[0])
    except ValueError:
        return False
    mapped = getattr(found, "ipv4_mapped", None)
    return found.is_loopback or (mapped is not None and mapped.is_loopback)
