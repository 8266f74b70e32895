"""A printed certificate that carries the sealed one: a file attached to the PDF (ISO 32000-2, 7.11.4 and 14.13), and a seal over
the page itself, so that a page whose figures were changed is told apart from the certificate in it.
"""

import hashlib
import io
import json
from collections.abc import Iterator
from typing import Any

import rfc8785
from joserfc.jwk import OKPKey
from pypdf import PdfReader, PdfWriter
from pypdf.errors import PyPdfError
from pypdf.generic import ArrayObject, DictionaryObject, IndirectObject, NameObject, PdfObject, StreamObject

from ispettore.core import errors
from ispettore.core.certify import seal

CERTIFICATE, PAGE = "certificate.json", "page.json"
LARGEST_BYTES = 8_000_000
DEEPEST = 40
MOST_PAGES = 400


def attach(printed: bytes, sealed: dict[str, Any], key: OKPKey | None) -> bytes:
    """The printed pages with their certificate inside and, where there is a `key`, a seal over the pages. The same pages,
    certificate and key give the same file."""
    writer = PdfWriter(clone_from=PdfReader(io.BytesIO(printed)))
    content = rfc8785.dumps(sealed) + b"\n"
    attached = writer.add_attachment(CERTIFICATE, content)
    attached.associated_file_relationship = NameObject("/Source")
    if key is not None:
        pages = {"certificate": hashlib.sha256(content).hexdigest(), "pages": pages_sha256(PdfReader(io.BytesIO(printed)))}
        signed = {**pages, "seal": seal.signature(rfc8785.dumps(pages), key)}
        writer.add_attachment(PAGE, rfc8785.dumps(signed) + b"\n")
    written = io.BytesIO()
    writer.write(written)
    return written.getvalue()


def is_pdf(text: bytes) -> bool:
    """Whether a file calls itself PDF (ISO 32000-2, 7.5.2)."""
    return text[:1024].lstrip().startswith(b"%PDF-")


def detach(text: bytes, *, name: str) -> tuple[dict[str, Any], tuple[str, ...], tuple[str, ...]]:
    """The sealed certificate in a PDF; what is wrong with the pages around it, and what can't be told of them, in sentences.

    Raises NotACertificate.
    """
    if len(text) > LARGEST_BYTES:
        raise errors.NotACertificate(file=name, reason="it is larger than 8 MB, which no printed certificate is")
    try:
        reader = PdfReader(io.BytesIO(text))
        attachments = {str(found): contents for found, contents in reader.attachments.items()}
        pages = pages_sha256(reader)
    except (PyPdfError, ValueError, TypeError, KeyError, AttributeError, RecursionError, OSError) as error:
        raise errors.NotACertificate(file=name, reason="it is a damaged PDF") from error
    papers = attachments.get(CERTIFICATE, [])
    if len(papers) != 1:
        raise errors.NotACertificate(file=name, reason="it is a PDF without one certificate in it")
    sealed = seal.parse(papers[0], name=name)
    key = seal.sealing_key(sealed)
    told = attachments.get(PAGE, [])
    if not told:
        return sealed, (), ("The page is not sealed. What counts is the certificate in it, as it is told here.",)
    stated = _stated(told[0]) if len(told) == 1 else None
    if stated is None:
        return sealed, ("The seal over the page can't be read.",), ()
    content = {name: stated[name] for name in ("certificate", "pages")}
    by = seal.named_key(stated["seal"])
    if by is None or not seal.signed(rfc8785.dumps(content), stated["seal"], by):
        return sealed, ("The seal over the page was changed.",), ()
    if content != {"certificate": hashlib.sha256(papers[0]).hexdigest(), "pages": pages}:
        return sealed, ("The printed page was changed: it is not the one that was printed from the certificate in it.",), ()
    if key is None or by.thumbprint() != key.thumbprint():
        return sealed, (), (f"The page was printed and sealed with another key than the certificate in it: {by.thumbprint()}.",)
    return sealed, (), ()


def _stated(text: bytes) -> dict[str, str] | None:
    try:
        stated = json.loads(text)
    except (ValueError, RecursionError):
        return None
    whole = isinstance(stated, dict) and set(stated) == {"certificate", "pages", "seal"}
    return stated if whole and all(isinstance(value, str) for value in stated.values()) else None


def pages_sha256(reader: PdfReader) -> str:
    """SHA-256 over all that makes the pages look as they do: their content, fonts and annotations, whatever order a program keeps
    them in; not over what is attached."""
    found = hashlib.sha256()
    count = len(reader.pages)
    if count > MOST_PAGES:
        raise ValueError(f"{count} pages")
    for page in reader.pages:
        for piece in _told(page, 0, set()):
            found.update(piece)
    return found.hexdigest()


def _told(thing: PdfObject | None, depth: int, seen: set[tuple[int, int]]) -> Iterator[bytes]:
    """One object as bytes, whatever it refers to included, each thing once; a page's parent is not."""
    if depth > DEEPEST:
        raise ValueError("nested too deeply")
    if isinstance(thing, IndirectObject):
        where = (thing.idnum, thing.generation)
        if where in seen:
            yield b"seen "
            return
        seen.add(where)
        thing = thing.get_object()
    if isinstance(thing, DictionaryObject):
        yield b"<"
        for name in sorted(thing):
            if name in ("/Parent", "/Length", "/Filter", "/DecodeParms"):
                continue
            yield name.encode() + b" "
            yield from _told(thing.raw_get(name), depth + 1, seen)
        if isinstance(thing, StreamObject):
            content = thing.get_data()
            yield f"stream {len(content)} ".encode() + content
        yield b">"
    elif isinstance(thing, ArrayObject):
        yield b"["
        for one in thing:
            yield from _told(one, depth + 1, seen)
        yield b"]"
    else:
        yield repr(thing).encode() + b" "
