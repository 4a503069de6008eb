"""Bringing in what somebody else designed: a page, a folder, an archive or a message becomes a template."""

from __future__ import annotations

import json
import os
import re
from collections.abc import Mapping, Sequence
from pathlib import Path

from pribble.arguments import flags, maybe_texts, possible_paths, texts
from pribble.conversion import compare
from pribble.errors import DataError
from pribble.findings import Finding
from pribble.records import record
from pribble.regexes import regex
from pribble.review.adopting.braces import BRACES, CLOSED, DOUBLED, mark, with_marks_written, without_controls
from pribble.review.adopting.material import Material, read_material
from pribble.review.adopting.pages import adopt_page, with_marks
from pribble.review.adopting.pictures import BroughtFiles
from pribble.review.adopting.replacing import Replacing, sample_of
from pribble.review.adopting.staging import write_together
from pribble.review.check import check_cases
from pribble.review.viewers import chosen_viewers
from pribble.template import TemplateFolder, without_optimisations

_NAME = regex(r"[A-Za-z0-9][\w-]*(?:/[A-Za-z0-9][\w-]*)*", re.ASCII)
_RESERVED = regex(r"(?:con|prn|aux|nul|com[0-9]|lpt[0-9])", re.IGNORECASE)
_NOT_TEMPLATES = ("layouts", "parts", "pictures", "styles")
_REFERENCE = "Pribble, docs/adopting.md"


@record(frozen=True, slots=True)
class AdoptedField:
    """A field that was made: its `path`, the `text` that stood for it first, and in how many `places`."""

    path: str
    text: str
    places: int


@record(frozen=True, slots=True)
class Adopted:
    """What was brought in: the `files` that were written, the template first; the `fields` that were made; the
    `findings`: what was left out or needs a hand, and what a check of the template finds."""

    files: tuple[Path, ...]
    fields: tuple[AdoptedField, ...]
    findings: tuple[Finding, ...]


def adopt(
    source: str | os.PathLike[str],
    *,
    into: str | os.PathLike[str] = "templates",
    name: str,
    page: str | None = None,
    placeholder: str | None = None,
    fields: Mapping[str, str] | None = None,
    tidy: bool = False,
    replace: bool = False,
    locale: str = "en",
) -> Adopted:
    """Makes a template of what somebody else designed: ``adopt("export.zip", name="spring-tide")``.

    - `source`: a page, a folder or a zip of a page and its pictures, or a message that was received (``.eml``).
    - `into`: the template folder; `name` is that of the template in it.
    - `page`: which page, where there are several.
    - `placeholder`: a regular expression for what becomes marks; its first group is the name of the field.
    - `fields`: texts that become marks, and the path of the field for each: ``{"Ana Bell": "skipper.name"}``.  They are
      replaced at the bounds of words in what shows, in ``alt`` and ``title``, in the subject and in addresses.
    - `tidy`: whether what a word processor leaves behind is taken out.
    - `replace`: whether files that are there are written over.
    - `locale`: the locale that the template is checked for.

    The page keeps its look: its styles stay as they are.  Its pictures and sheets come along, each once, under names
    that every system takes; what stood where marks are becomes its sample.  Scripts, event attributes, ``base``,
    pictures on somebody's disk and tracking pixels are left out, and reported.  All files are written, or none.

    Raises `DataError` for what holds no page, has several, or is an archive that leads out, is encrypted or enormous;
    `ValueError` for a name, path or pattern that is none; `FileExistsError` for files that are there; other `OSError`s.
    """
    possible_paths(source=source, into=into)
    texts(name=name, locale=locale)
    maybe_texts(page=page, placeholder=placeholder)
    flags(tidy=tidy, replace=replace)
    replacing = Replacing(_compiled_placeholder(placeholder), dict(fields or {}))
    checked_name(name)
    material = read_material(Path(source), page)
    brought = BroughtFiles(name)
    if material.html is None:
        ending, text, told = ".txt", _text_template(material, replacing), []
    else:
        adopted = adopt_page(material, brought, replacing, tidy=tidy)
        ending, text, told = ".html", f"{_head(material, replacing)}{adopted.html}", adopted.findings
    beside = f"{folder}/" if (folder := name.rpartition("/")[0]) else ""
    files: dict[str, bytes] = {f"{name}{ending}": text.encode("utf-8", "replace")}
    files |= {f"{beside}{path}": content for path, content in brought.files.items()}
    made = tuple(AdoptedField(path, replacing.stood[path], count) for path, count in replacing.found.items())
    if made:
        sample = json.dumps(sample_of(replacing.stood), ensure_ascii=False, indent=2)
        files[f"{name}.sample.json"] = f"{sample}\n".encode()
    told = [*material.findings, *told, *_not_found(replacing, told)]
    paths = write_together(Path(into), files, replace=replace)
    checked = _checked(Path(into), name, locale)
    return Adopted(tuple(paths), made, (*told, *checked))


def checked_name(name: str) -> None:
    """Raises `ValueError` for what no template may be called."""
    parts = name.split("/")
    if not _NAME.fullmatch(name) or len(name) > 100 or any(_RESERVED.fullmatch(part) for part in parts):
        raise ValueError(f'"{name[:60]}" is no name for a template: letters, digits, hyphens, and / for folders')
    if parts[0] in _NOT_TEMPLATES:
        raise ValueError(f'"{parts[0]}" is a folder of what templates are made of')


def _compiled_placeholder(placeholder: str | None) -> re.Pattern[str] | None:
    if placeholder is None:
        return None
    try:
        return re.compile(placeholder)
    except re.error as error:
        raise ValueError(f"placeholder is no regular expression: {error}") from None


def _head(material: Material, replacing: Replacing) -> str:
    """Returns the blocks that a message brings: its subject, and its text where that says something of its own."""
    made = ""
    if material.subject is not None:
        made += f"{{{{ subject: }}}}{_as_block(material.subject, replacing)}{{{{ :subject }}}}\n"
    if material.text is not None and material.html is not None and _says_more(material.html, material.text):
        text = material.text.replace("\r\n", "\n").strip("\n")
        made += f"{{{{ text: }}}}\n{_as_block(text, replacing)}\n{{{{ :text }}}}\n"
    return made


def _says_more(html: str, text: str) -> bool:
    """Returns whether a text says something that is not in the page, or leaves something out."""
    return bool(compare(html, text))


def _as_block(text: str, replacing: Replacing) -> str:
    """Returns a plain text as a block of a page has it, where references are read."""
    clean = without_controls(text)
    return with_marks_written("".join(with_marks(clean, replacing.in_text(clean), _in_block)))


def _in_block(text: str) -> str:
    return text.replace("&", "&amp;").replace("{{", BRACES)


def _text_template(material: Material, replacing: Replacing) -> str:
    """Returns a template of text alone, where no references are read."""

    def literal(part: str) -> str:
        return part.replace("{{", DOUBLED).replace("}}", CLOSED)

    def made(said: str) -> str:
        clean = without_controls(said)
        return with_marks_written("".join(with_marks(clean, replacing.in_text(clean), literal)), mark('"{"'))

    text = made((material.text or "").replace("\r\n", "\n").strip("\n"))
    if material.subject is None:
        return f"{text}\n"
    return f"{{{{ subject: }}}}{made(material.subject)}{{{{ :subject }}}}\n{text}\n"


def _not_found(replacing: Replacing, told: Sequence[Finding]) -> list[Finding]:
    """Returns findings: the texts that were named and are nowhere, but for those that are known to be cut."""
    cut = " ".join(one.message for one in told if one.rule == "adopt.cut")
    return [
        Finding(
            "adopt.not-found",
            "warning",
            None,
            f'"{text[:60]}" is nowhere, so that nothing became {path}',
            "look how it is written: case and signs count, white space does not",
            _REFERENCE,
        )
        for text, path in replacing.fields.items()
        if not replacing.found[path] and f'"{text[:60]}" is cut' not in cut
    ]


def _checked(folder: Path, name: str, locale: str) -> tuple[Finding, ...]:
    templates = without_optimisations(TemplateFolder(folder, locale=locale))
    try:
        return check_cases(templates, chosen_viewers(None), names=[name]).check.findings
    except DataError:  # a sample that somebody else left there
        return ()
