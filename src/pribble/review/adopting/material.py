"""What is brought in: a page and the files beside it, from a file, a folder, an archive or a message."""

from __future__ import annotations

import posixpath
from collections.abc import Callable, Iterable, Iterator, Mapping
from pathlib import Path
from urllib.parse import unquote, urljoin

import webencodings

from pribble.cascade.urls import is_elsewhere
from pribble.errors import DataError, did_you_mean
from pribble.files import is_file, is_within
from pribble.findings import Finding
from pribble.markup.encoding import decoded_page
from pribble.mime.encoded_words import decoded_text
from pribble.mime.flowed import FlowingText
from pribble.mime.reading import Entity, read_message
from pribble.mime.stored import leaves, text_and_page
from pribble.records import field, record
from pribble.review.adopting.archives import MOST_BYTES, MOST_ENTRIES, read_archive

_PAGES = (".html", ".htm", ".xhtml")
# What systems and programs leave beside what is meant.
_DEBRIS = ("__macosx", "thumbs.db", "desktop.ini")
_KEPT_FIELDS = frozenset({"subject", "from", "to", "cc", "bcc", "reply-to", "mime-version"})
_MOST_NAMED = 6
_REFERENCE = "Pribble, docs/adopting.md"


@record(frozen=True, slots=True)
class Material:
    """A page, and what it may name.

    `html` is None where there is text alone; `path` is that of the page among its files, `find` returns the content of
    what is named by an address (None for what is not there), `subject` and `text` are those of a message.
    """

    html: str | None
    path: str
    find: Callable[[str, str], bytes | None]
    subject: str | None = None
    text: str | None = None
    findings: list[Finding] = field(default_factory=list)


def read_material(source: Path, page: str | None = None) -> Material:
    """Returns what is at a path: a page, a folder, a zip, or a message (``.eml``); `page` names the page of several.

    Raises `DataError` for what is none of these, has no page, or has several and none is named.
    """
    if source.is_dir():
        return _of_files(_in_folder(source), str(source), page)
    if not is_file(source):
        raise DataError(f"there is no file {source}")
    if source.stat().st_size > MOST_BYTES:
        raise DataError(f"{source} has more than {MOST_BYTES // 1024 // 1024} MB")
    raw = source.read_bytes()
    if raw.startswith(b"PK\x03\x04") or source.suffix.lower() == ".zip":
        return _of_files(read_archive(raw, source.name), source.name, page)
    if source.suffix.lower() in (".eml", ".mht", ".mhtml"):
        return of_message(raw, source.name)
    html, told = _decoded(raw, str(source))
    folder = source.parent

    def beside(path: str) -> bytes | None:
        found = folder / path
        return found.read_bytes() if is_file(found) and is_within(found, folder) else None

    return Material(html, source.name, _by_path(beside), findings=told)


def _decoded(raw: bytes, name: str) -> tuple[str, list[Finding]]:
    """Returns the text of a page, as a browser decodes it (WHATWG Encoding).  Raises `DataError` for no text."""
    told: list[Finding] = []
    try:
        text, told = decoded_page(raw, name)
    except DataError as error:
        text, _ = webencodings.decode(raw, webencodings.lookup("windows-1252"), errors="replace")
        said = f"{error.problem}, and is read as windows-1252"
        told = [Finding("adopt.charset", "warning", None, said, "look at its letters", "WHATWG HTML 13.2.3.2")]
    if "\0" in text or not text.strip():
        problem = f"{name} is empty" if not text.strip() else f"{name} is no page"
        raise DataError(problem, hint="give a page, a folder or a zip with one, or a message (.eml)")
    return text, told


# ---- files ------------------------------------------------------------------------------------------------------


def _is_debris(path: str) -> bool:
    return any(part.startswith(".") or part.lower() in _DEBRIS for part in path.split("/"))


def _in_folder(folder: Path) -> Mapping[str, bytes]:
    """Returns the files of a folder by their paths, but for links that lead out."""
    files: dict[str, bytes] = {}
    size = 0
    for path in sorted(folder.rglob("*")):
        if is_file(path) and is_within(path, folder):
            size += path.stat().st_size
            if len(files) >= MOST_ENTRIES or size > MOST_BYTES:
                raise DataError(f"{folder} has too many files for a page and its pictures")
            files[path.relative_to(folder).as_posix()] = path.read_bytes()
    return files


def _of_files(files: Mapping[str, bytes], name: str, page: str | None) -> Material:
    meant = [path for path in files if not _is_debris(path)]
    pages = [path for path in meant if path.lower().endswith(_PAGES)]
    chosen = pages if page is None else [path for path in pages if path == page or path.endswith(f"/{page}")]
    if not pages:
        raise DataError(f"there is no page in {name}", hint="a page is a file that ends in .html")
    if not chosen:
        raise DataError(f'there is no page "{page}" in {name}', hint=did_you_mean(str(page), pages))
    if len(chosen) > 1:
        raise DataError(f"there are several pages in {name}", hint=f"say which: --page {chosen[0]}, …")
    (path,) = chosen
    # An address with a slash before it starts from the folder that all lie in.
    around = posixpath.commonpath([posixpath.dirname(each) for each in meant])
    within = f"{around}/" if around else ""
    folded = {each.removeprefix(within).casefold(): files[each] for each in files if each.startswith(within)}
    html, told = _decoded(files[path], path)
    find = _by_path(lambda each: folded.get(each.casefold()))
    return Material(html, path.removeprefix(within), find, findings=told)


def _by_path(read: Callable[[str], bytes | None]) -> Callable[[str, str], bytes | None]:
    """Returns what finds files by addresses, from the path of the file that names them."""

    def find(address: str, named_in: str) -> bytes | None:
        path = path_named(address, named_in)
        return None if path is None else read(path)

    return find


def path_named(address: str, named_in: str) -> str | None:
    """Returns the path that a relative address names, from the file that it stands in, or, with a slash before it, from
    the folder of all; None for one that leads out, or is none."""
    bare = address.strip().replace("\\", "/").partition("#")[0].partition("?")[0]
    if not bare or is_elsewhere(bare):
        return None
    start = "" if bare.startswith("/") else posixpath.dirname(named_in)
    path = posixpath.normpath(posixpath.join(start, unquote(bare).lstrip("/")))
    return None if path.startswith("../") or path in ("..", ".") or not path.isprintable() else path


# ---- messages ---------------------------------------------------------------------------------------------------


def of_message(raw: bytes, name: str) -> Material:
    """Returns a message that was received, as a page with its pictures and texts.  Raises `DataError` for one without
    page and text."""
    root = read_message(raw.decode("latin-1"))
    text, html = text_and_page(root)
    if html is None and not (text or "").strip():
        raise DataError(f"there is neither a page nor a text in {name}")
    named = dict(_named_parts(root))
    pages = (one for one in leaves(root) if one.type.value == "text/html" and one.disposition.value != "attachment")
    page = next(pages, None)
    base = "" if page is None else _location(page)

    def find(address: str, named_in: str) -> bytes | None:
        for known in (address.strip(), urljoin(base, address.strip()), unquote(address.strip())):
            entity = named.get(_key(known))
            if entity is not None:
                return entity.decoded()
        return None

    field_ = root.first("subject")
    subject = None if field_ is None else " ".join(decoded_text(field_.value).split())
    if isinstance(text, FlowingText):
        text = text.unwrapped()
    return Material(html, "page.html", find, subject, text, [*_dropped_fields(root), *_dropped_parts(root, page)])


def _location(entity: Entity) -> str:
    found = entity.first("content-location") or entity.first("content-base")
    return "".join(found.value.split()) if found is not None else ""


def _key(address: str) -> str:
    scheme, colon, rest = address.partition(":")
    return f"cid:{rest.strip('<>')}" if colon and scheme.lower() == "cid" else address


def _named_parts(root: Entity) -> Iterator[tuple[str, Entity]]:
    """Yields the parts of a message by the addresses that its page names them by (RFC 2392, RFC 2557)."""
    for entity in root.walk():
        if entity.parts:
            continue
        if entity.content_id:
            yield f"cid:{entity.content_id}", entity
        if location := _location(entity):
            yield location, entity
            yield urljoin(_location(entity.parent) if entity.parent else "", location), entity


def _dropped_fields(root: Entity) -> Iterable[Finding]:
    """Returns a finding: which fields of the header are not brought along."""
    names = dict.fromkeys(
        one.name for one in root.fields if one.key not in _KEPT_FIELDS and not one.key.startswith("content-")
    )
    if names:
        said = f"of its header these are left out: {', '.join(names)}"
        yield Finding("adopt.fields", "note", None, said, "a message gets its own when it is made", _REFERENCE)


def _is_enclosed(entity: Entity) -> bool:
    """Returns whether a part is neither text, page, nor something that a page can name."""
    if entity.disposition.value == "attachment":
        return True
    is_shown = entity.type.value in ("text/plain", "text/html", "text/css") or entity.content_id or _location(entity)
    return not is_shown


def _dropped_parts(root: Entity, page: Entity | None) -> Iterable[Finding]:
    """Returns findings: which files and further pages of a message are not brought along."""
    files = [one.file_name or one.type.value for one in leaves(root) if _is_enclosed(one)]
    if files:
        more = f", and {len(files) - _MOST_NAMED} more" if len(files) > _MOST_NAMED else ""
        said = f"attached files are left out: {', '.join(files[:_MOST_NAMED])}{more}"
        yield Finding("adopt.files", "note", None, said, "attach them where the message is made", _REFERENCE)
    others = [one for one in leaves(root) if one.type.value == "text/html" and one is not page]
    if any(one.disposition.value != "attachment" for one in others):
        said = "the message has a second page, which is left out"
        yield Finding("adopt.pages", "warning", None, said, "put what it says into the first", _REFERENCE)
