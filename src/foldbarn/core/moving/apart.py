"""What may lie beside what: at most so many strips of an extent in a domain, and never two on one disk.

Domains and disks of an extent's strips are rows of whole numbers, one column for each strip; -1 for a strip
that lies nowhere. Where a domain may hold one strip, the disks follow from the domains; where it may hold
several, both are asked.
"""

from __future__ import annotations

import numpy as np

from foldbarn.core.arrays import Disks, Flags, Ints


def occurrences(labels: Ints | Disks) -> Ints:
    """How often each label occurs in its own row, [extents, strips]; 0 for none (-1)."""
    found = np.zeros(labels.shape, dtype=np.int64)
    for strip in range(labels.shape[1]):
        found[:, strip] = (labels == labels[:, strip : strip + 1]).sum(axis=1)
    found[labels < 0] = 0
    return found


def seen_first(labels: Ints | Disks) -> Flags:
    """Whether no earlier column of the row has the same label, [extents, strips]."""
    first = np.ones(labels.shape, dtype=np.bool_)
    for later in range(1, labels.shape[1]):
        first[:, later] = (labels[:, :later] != labels[:, later : later + 1]).all(axis=1)
    return first


def domains_full(domains: Ints, most: int) -> Ints:
    """The domains that hold as many of these strips as they may, each in one column, and -1 in the others;
    [extents, strips].
    """
    if most == 1:
        return domains
    full = (occurrences(domains) >= most) & seen_first(domains)
    return np.where(full, domains, -1)


def may_join(domains: Ints, disks: Ints, most: int, domain: Ints, disk: Ints) -> Flags:
    """Whether another strip may lie on a disk in a domain beside those that lie in these, [extents].

    domains, disks: [extents, others]; domain, disk: [extents].
    """
    if most == 1:
        alone: Flags = (domains != domain[:, None]).all(axis=1)
        return alone
    room = (domains == domain[:, None]).sum(axis=1) < most
    free: Flags = room & (disks != disk[:, None]).all(axis=1)
    return free


def disks_open_to(domains: Ints, disks: Ints, most: int, offered: Flags, domain_of: Ints) -> Ints:
    """How many of the disks offered another strip may lie on, beside those that lie in these; [extents].

    domains, disks: [extents, others]; offered: [disks]; domain_of: [disks] the domain of each.
    """
    # The last is that of -1, in which there is nothing.
    in_domain = np.bincount(domain_of[offered], minlength=int(domain_of.max(initial=0)) + 2)
    barred = in_domain[domains_full(domains, most)]
    if most == 1:
        barred[~seen_first(domains)] = 0
    else:
        own = np.append(offered, False)[disks] & seen_first(disks) & (occurrences(domains) < most)
        barred = barred + own
    open_to: Ints = int(offered.sum()) - barred.sum(axis=1)
    return open_to


def too_close(domains: Ints | Disks, disks: Ints | Disks, most: int) -> Flags:
    """Strips to be led away so that what is left lies apart, [extents, strips]: in a domain that holds as
    many earlier ones as it may, or on a disk that holds an earlier one.
    """
    found = np.zeros(domains.shape, dtype=np.bool_)
    for later in range(1, domains.shape[1]):
        earlier = slice(0, later)
        same = (domains[:, earlier] == domains[:, later : later + 1]) & ~found[:, earlier]
        close = same.sum(axis=1) >= most
        if most > 1:
            close |= ((disks[:, earlier] == disks[:, later : later + 1]) & ~found[:, earlier]).any(axis=1)
        found[:, later] = close & (domains[:, later] >= 0)
    return found
