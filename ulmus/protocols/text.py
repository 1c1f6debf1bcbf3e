"""Bytes to text in any declared or undeclared encoding, and text as XML can hold it."""

from __future__ import annotations

import codecs
import re
from typing import BinaryIO

from charset_normalizer import from_bytes

FEW = 8
_META = re.compile(rb"<meta[^>]+charset\s*=\s*[\"']?\s*([\w.:-]+)", re.IGNORECASE)
_XML = re.compile(rb"^\s*<\?xml[^>]+encoding\s*=\s*[\"']([\w.:-]+)", re.IGNORECASE)


def decode(body: bytes, charset: str | None = None) -> str:
    """Decode by byte-order mark, the declared `charset`, a declaration in the text, UTF-8, or a guess; never raises.

    As in the Encoding Standard, ``iso-8859-1`` means ``windows-1252``.
    """
    for mark, name in ((codecs.BOM_UTF8, "utf-8-sig"), (codecs.BOM_UTF16_LE, "utf-16"), (codecs.BOM_UTF16_BE, "utf-16")):
        if body.startswith(mark):
            return body.decode(name, errors="replace")
    declared: list[str | None] = [charset]
    for pattern in (_XML, _META):
        found = pattern.search(body[:4096])
        declared.append(found.group(1).decode("ascii") if found else None)
    for name in filter(None, [*declared, "utf-8"]):
        if name.lower() in ("iso-8859-1", "latin-1", "latin1", "ascii", "us-ascii"):
            name = "windows-1252"
        try:
            return body.decode(name)
        except (LookupError, UnicodeDecodeError):
            continue
    if sum(byte > 127 for byte in body[:20_000]) < FEW:
        # Too few to guess by: what western files without a word about it mostly are.
        return body.decode("windows-1252", errors="replace")
    best = from_bytes(body[:200_000]).best()
    return body.decode(best.encoding if best else "windows-1252", errors="replace")


def encoding_of(file: BinaryIO) -> str:
    """The encoding of a text of any length, told as `decode` tells it: a mark, else UTF-8 where all of it is, else a guess by its
    beginning. The file stands at its beginning again."""
    head = file.read(200_000)
    for mark, name in ((codecs.BOM_UTF8, "utf-8-sig"), (codecs.BOM_UTF16_LE, "utf-16"), (codecs.BOM_UTF16_BE, "utf-16")):
        if head.startswith(mark):
            file.seek(0)
            return name
    reader, piece = codecs.getincrementaldecoder("utf-8")(), head
    try:
        while piece:
            reader.decode(piece)
            piece = file.read(1_000_000)
        reader.decode(b"", final=True)
        return "utf-8"
    except UnicodeDecodeError:
        best = from_bytes(head).best() if sum(byte > 127 for byte in head[:20_000]) >= FEW else None
        return best.encoding if best else "windows-1252"
    finally:
        file.seek(0)


_NO_XML = re.compile("[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")


def for_xml(text: str) -> str:
    """A text with only what XML 1.0 can hold."""
    return _NO_XML.sub("", text)
