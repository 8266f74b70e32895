"""A ZIP file that is never written: laid out from names, sizes and check sums, and read from any byte on.

Files are stored as they are (sound does not shrink), with their sizes and check sums in front, so that every byte of the whole has
its place before the first is sent: it can be streamed, and a download that broke off goes on. The layout is that of the .ZIP File
Format Specification (APPNOTE 6.3.9), with Zip64 records (4.3.14, 4.3.15, 4.5.3) where numbers are too large for the older ones.
"""

import hashlib
import struct
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime

UTF_8_NAMES = 0x0800
STORED = 0
PLAIN, ZIP64 = 20, 45
"""Versions needed to extract (4.4.3)."""
BY_UNIX = 3 << 8 | ZIP64
READABLE = 0o100_644 << 16
FULL_32, FULL_16 = 0xFFFF_FFFF, 0xFFFF

Read = Callable[[int, int], Iterator[bytes]]
"""(first byte, after the last) → the bytes between, in pieces."""


@dataclass(frozen=True)
class Member:
    """A file to be in it: its name (with slashes for folders), size, CRC-32, and how it is read."""

    name: str
    size: int
    crc32: int
    read: Read


@dataclass(frozen=True)
class _Part:
    size: int
    read: Read


class Zipped:
    """The whole of it. `when` is the time that every member bears (in two seconds, as the format has it)."""

    def __init__(self, members: Sequence[Member], *, when: datetime) -> None:
        stamp = struct.pack("<HH", when.hour << 11 | when.minute << 5 | when.second // 2, _day(when))
        self._parts: list[_Part] = []
        entries, place = [], 0
        for member in members:
            header = _local(member, stamp)
            entries.append(_central(member, stamp, place))
            self._parts += [_plain(header), _Part(member.size, member.read)]
            place += len(header) + member.size
        directory = b"".join(entries)
        end = directory + _end(len(members), len(directory), place)
        self._parts.append(_plain(end))
        self.size = place + len(end)
        self.tag = hashlib.sha256(end).hexdigest()[:32]
        """The same for the same names, sizes and check sums."""

    def read(self, start: int = 0, end: int | None = None) -> Iterator[bytes]:
        """Its bytes from `start` up to, not including, `end`."""
        last, place = self.size if end is None else min(end, self.size), 0
        for part in self._parts:
            first, after = max(start - place, 0), min(last - place, part.size)
            if first < after:
                yield from part.read(first, after)
            place += part.size
            if place >= last:
                return


def _plain(content: bytes) -> _Part:
    return _Part(len(content), lambda first, after: iter((content[first:after],)))


def _day(when: datetime) -> int:
    return (max(when.year, 1980) - 1980) << 9 | when.month << 5 | when.day


def _local(member: Member, stamp: bytes) -> bytes:
    """A local file header (4.3.7)."""
    name, large = member.name.encode(), member.size >= FULL_32
    extra = struct.pack("<HHQQ", 1, 16, member.size, member.size) if large else b""
    size = FULL_32 if large else member.size
    head = struct.pack("<4sHHH", b"PK\3\4", ZIP64 if large else PLAIN, UTF_8_NAMES, STORED)
    return head + stamp + struct.pack("<IIIHH", member.crc32, size, size, len(name), len(extra)) + name + extra


def _central(member: Member, stamp: bytes, place: int) -> bytes:
    """A central directory header (4.3.12)."""
    name, large, far = member.name.encode(), member.size >= FULL_32, place >= FULL_32
    told = ([member.size, member.size] if large else []) + ([place] if far else [])
    extra = struct.pack(f"<HH{len(told)}Q", 1, 8 * len(told), *told) if told else b""
    size = FULL_32 if large else member.size
    head = struct.pack("<4sHHHH", b"PK\1\2", BY_UNIX, ZIP64 if told else PLAIN, UTF_8_NAMES, STORED)
    sizes = struct.pack(
        "<IIIHHHHHII", member.crc32, size, size, len(name), len(extra), 0, 0, 0, READABLE, FULL_32 if far else place
    )
    return head + stamp + sizes + name + extra


def _end(count: int, size: int, place: int) -> bytes:
    """The end of central directory record (4.3.16), after its Zip64 form where a number is too large for it."""
    tail = b""
    if count >= FULL_16 or size >= FULL_32 or place >= FULL_32:
        tail += struct.pack("<4sQHHIIQQQQ", b"PK\6\6", 44, BY_UNIX, ZIP64, 0, 0, count, count, size, place)
        tail += struct.pack("<4sIQI", b"PK\6\7", 0, place + size, 1)
    short = min(count, FULL_16)
    return tail + struct.pack("<4sHHHHIIH", b"PK\5\6", 0, 0, short, short, min(size, FULL_32), min(place, FULL_32), 0)
