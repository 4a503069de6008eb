"""One message of the preview: a template with one sample in one language, as all its viewers show it."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

from pribble.edits import Edit, replaced
from pribble.errors import Place, PribbleError, Source
from pribble.findings import Finding
from pribble.mime.encoded_words import decoded_text
from pribble.mime.message import Message
from pribble.mime.reading import Entity, read_message
from pribble.records import record, replace
from pribble.rendering.rendering import Rendering
from pribble.review.aligning import aligned
from pribble.review.cases import Case, Failed, message_of
from pribble.review.json_data import Json, plain_data
from pribble.review.page_view import PageView
from pribble.review.preview.pointing import Pointing, ShownValues, elements_at, pointing_at
from pribble.review.preview.safe_pages import ELEMENT, PICTURE, safe_page
from pribble.review.preview.store import Store
from pribble.review.simulating import addresses_of, cut_of, seen_of
from pribble.review.snapshots import snapshot, snapshot_message
from pribble.review.viewers import Viewer
from pribble.values.kinds import Data

# So many lines that differ from a snapshot are shown.
_MOST_LINES = 400


@record(frozen=True, slots=True)
class Composing:
    """How messages are made of renderings: who they are from, or by the application's own function, which takes the
    name of the template, the rendering and the data; and where the snapshots lie that they are compared with."""

    sender: str | None = None
    function: Callable[[str, Rendering, Data], Message] | None = None
    snapshots: Path | None = None

    def message(self, template: str, rendering: Rendering, data: Data) -> Message:
        """Returns the message of a rendering."""
        if self.function is not None:
            return self.function(template, rendering, data)
        return message_of(rendering, self.sender)

    def message_to(self, rendering: Rendering, to: str) -> Message:
        """Returns the message of a rendering, to an address."""
        return message_of(rendering, self.sender, to)


@record(frozen=True, slots=True)
class _Pictures:
    """The pictures of a message: addresses that stand for them while pages are made, and what these stand for."""

    standing: Mapping[str, str]
    addresses: Mapping[str, str]

    @classmethod
    def of(cls, root: Entity, token: str) -> _Pictures:
        found = addresses_of(root)
        standing = {address: f"{PICTURE}{token}-{number};" for number, address in enumerate(found)}
        return cls(standing, {standing[address]: found[address] for address in found})


def case_entry(
    case: Case, found: Sequence[Finding], viewers: Sequence[Viewer], composing: Composing, store: Store
) -> dict[str, Json]:
    """Returns all that the preview shows of one case, for a script."""
    rendering = case.rendering
    message = composing.message(case.template.name, rendering, case.data)
    root = read_message(bytes(message).decode("latin-1"))
    values = ShownValues(store)
    pointing = Pointing()
    elements: Mapping[Place, list[int]] = {}
    entry: dict[str, Json] = {"sample": case.sample, "locale": case.locale, "data": plain_data(case.data)}
    if case.html is not None and case.view is not None:
        pointing = pointing_at(case.view, case.html, rendering.text, case.words, values)
        elements = elements_at(
            case.view, case.html, list(dict.fromkeys(each for one in found for each in _places(one)))
        )
    entry["subject"] = values.in_text(case.traced.subject)
    entry["preheader"] = values.in_text(case.traced.preheader)
    written = values.in_text(case.traced.text)
    entry["text"] = written if written is not None else {"text": rendering.text, "shown": pointing.text}
    entry["handwritten"] = written is not None
    forms = _Forms(case)
    entry["findings"] = [
        finding_entry(one, store, [number for each in _places(one) for number in elements.get(each, ())], forms.of(one))
        for one in found
    ]
    entry |= _as_read(root)
    if case.view is not None:
        pointed = pointing.elements | {number for numbers in elements.values() for number in numbers}
        entry |= {"spans": pointing.spans, "words": pointing.words, "attributes": pointing.attributes}
        entry["links"] = _link_entries(case.view, store)
        pointed |= {link.element.number for link in case.view.links}
        entry["pictures"] = _picture_entries(case, viewers)
        pointed |= {element.number for element in case.view.elements if element.local_name == "img"}
        entry["dark"] = [one.name for one in viewers if one.scheme == "dark" and _is_dark(case.view, one)]
        entry |= _page_entries(
            case.view.html, _numbered(case.view, pointed, store.token), viewers, _Pictures.of(root, store.token), store
        )
    entry["values"] = values.entries
    if composing.snapshots is not None:
        entry["snapshot"] = _against_snapshot(case, composing.snapshots)
    return entry


def rendered_entry(
    rendering: Rendering, data: Data, viewers: Sequence[Viewer], store: Store, composing: Composing
) -> dict[str, Json]:
    """Returns what the preview shows of a message that is not traced and not checked: as it looks in some viewers."""
    message = message_of(rendering, composing.sender)
    root = read_message(bytes(message).decode("latin-1"))
    entry: dict[str, Json] = {"data": plain_data(data), **_as_read(root)}
    entry["subject"] = {"text": rendering.subject or "", "shown": []}
    entry["preheader"] = {"text": rendering.preheader, "shown": []} if rendering.preheader else None
    entry["text"] = {"text": rendering.text, "shown": []}
    if rendering.html is not None:
        entry |= _page_entries(rendering.html, (), viewers, _Pictures.of(root, store.token), store)
    return entry


def failed_entry(failed: Failed, store: Store) -> dict[str, Json]:
    """Returns what the preview shows in the place of a message that cannot be made."""
    return {
        "sample": failed.sample,
        "locale": failed.locale,
        "errors": [error_entry(error, store) for error in failed.errors],
    }


def error_entry(error: PribbleError, store: Store) -> dict[str, Json]:
    """Returns an error as the preview shows it, with the line and its caret."""
    place = error.place
    return {
        "message": error.problem,
        "hint": error.hint,
        "place": store.place(place),
        "where": str(place) if place else None,
        "excerpt": place.excerpt() if place else None,
    }


# ---- pages ----------------------------------------------------------------------------------------------------


def _numbered(view: PageView, elements: set[int], token: str) -> list[Edit[str]]:
    """Returns edits that give elements their numbers."""
    tags = [(view.elements[number].opening, number) for number in sorted(elements)]
    return [
        Edit(at := tag.start + 1 + len(tag.name), at, (f' {ELEMENT}="{token}-{number}"',))
        for tag, number in tags
        if tag.start < tag.end
    ]


def _page_entries(
    page: str, edits: Sequence[Edit[str]], viewers: Sequence[Viewer], pictures: _Pictures, store: Store
) -> dict[str, Json]:
    """Returns a page, with edits, for each viewer that shows one, what that takes out, and where it cuts it off."""
    pages: dict[str, Json] = {}
    lost: dict[str, Json] = {}
    cuts: dict[str, Json] = {}
    whole = replaced(page, edits)
    for viewer in viewers:
        if viewer.text_only:
            continue
        marked = whole
        if (cut := cut_of(page, viewer)) is not None:
            marked = whole[: cut + sum(len(edit.pieces[0]) for edit in edits if edit.start < cut)]
            cuts[viewer.name] = cut
        # Nothing is loaded here from elsewhere: what would be shows as a box with its words.
        here = viewer if viewer.remote == "never" else replace(viewer, remote="asked")
        seen = seen_of(marked, here, pictures.standing)
        pages[viewer.name] = store.page(safe_page(seen, pictures.addresses, store.token))
        if seen.lost:
            lost[viewer.name] = list(dict.fromkeys(one.what for one in seen.lost))
    return {"pages": pages, "lost": lost, "cuts": cuts}


def _is_dark(view: PageView, viewer: Viewer) -> bool:
    """Returns whether a page that says nothing of its colours is dark for a viewer (CSS Color Adjustment 1)."""
    return view.on(viewer.screen).canvas.luminance < 0.2


def _link_entries(view: PageView, store: Store) -> Json:
    return [
        {
            "element": link.element.number,
            "address": link.address,
            "label": link.label,
            "place": store.place(view.attribute_place(link.element, "href")),
        }
        for link in view.links
    ]


def _picture_entries(case: Case, viewers: Sequence[Viewer]) -> Json:
    """Returns the pictures, and what each viewer makes of each, by the way it travels."""
    assert case.view is not None
    alts: dict[str, tuple[int, str]] = {}
    for element in case.view.elements:
        if element.local_name == "img" and (source := element.values.get("src", "").strip()):
            alts.setdefault(source, (element.number, element.values.get("alt", "")))
    made: list[Json] = []
    for address, picture in case.pictures.items():
        number, alt = alts.get(address, (-1, ""))
        place = "img" if address in alts else "css"
        inside = len(picture.content) * 4 // 3 + 30
        made.append(
            {
                "name": picture.name,
                "type": picture.type,
                "size": len(picture.content),
                "width": picture.width,
                "height": picture.height,
                "element": number,
                "alt": alt,
                "shown": {viewer.name: _shown(viewer, place, inside) for viewer in viewers},
            }
        )
    elsewhere = [address for address in alts if address.lower().startswith(("http:", "https:"))]
    made += [{"name": each, "type": "elsewhere", "element": alts[each][0], "alt": alts[each][1]} for each in elsewhere]
    return made


def _shown(viewer: Viewer, place: str, inside: int) -> Json:
    """Returns for each way in which a picture can travel whether a viewer shows it."""
    if viewer.text_only:
        return {"cid": "no", "data": "no", "link": "no"}
    data = viewer.data is True or (viewer.data is not False and inside <= viewer.data)
    remote = {"shown": "yes", "asked": "on demand", "never": "no"}[viewer.remote]
    return {"cid": "yes" if place in viewer.cid else "no", "data": "yes" if data else "no", "link": remote}


# ---- the message as it is read --------------------------------------------------------------------------------


def _as_read(root: Entity) -> dict[str, Json]:
    """Returns the fields of the header that a reader sees, the attachments, the parts and their bytes."""
    fields = {name: root.first(name) for name in ("from", "reply-to")}
    parts = list(root.walk())
    return {
        "from": decoded_text(fields["from"].value) if fields["from"] else "",
        "replyTo": decoded_text(fields["reply-to"].value) if fields["reply-to"] else "",
        "attachments": [
            {"name": one.file_name or one.type.value, "type": one.type.value, "size": one.end - one.body_start}
            for one in parts
            if not one.parts and one.disposition.value == "attachment"
        ],
        "size": len(root.text),
        "parts": [
            {
                "depth": one.depth,
                "type": one.type.value,
                "encoding": "" if one.parts else one.encoding,
                "name": one.file_name or "",
                "size": one.end - one.start,
                "within": bool(one.parts),
            }
            for one in parts
        ],
    }


def finding_entry(one: Finding, store: Store, elements: Sequence[int] = (), form: str = "") -> dict[str, Json]:
    """Returns a finding as the preview shows it: at `elements` of a page, about a `form` of a message."""
    return {
        "rule": one.rule,
        "severity": one.severity,
        "message": one.message,
        "fix": one.fix,
        "reference": one.reference,
        "place": store.place(one.where),
        "where": str(one.where) if one.where else None,
        "path": one.path,
        "elements": list(dict.fromkeys(elements)),
        "form": form,
    }


def _places(one: Finding) -> list[Place]:
    return [place for place in (one.where, *one.others) if place is not None]


class _Forms:
    """Which form of a message a finding is about: "subject", "preheader", "text" or "page"."""

    def __init__(self, case: Case) -> None:
        traces = {"subject": case.traced.subject, "preheader": case.traced.preheader, "text": case.traced.text}
        self._marks: dict[Place, str] = {}
        self._written: list[tuple[str, Source, int, int]] = []
        for name, traced in traces.items():
            if traced is None:
                continue
            self._marks.update(dict.fromkeys((shown.place for shown in traced.shown), name))
            first, last = traced.place(0, 1), traced.place(max(0, len(traced.text) - 1), len(traced.text))
            if first and last and first.source == last.source:
                self._written.append((name, first.source, first.start, max(first.end, last.end)))

    def of(self, one: Finding) -> str:
        """Returns the form of a finding."""
        where = one.where
        if where is not None:
            if where in self._marks:
                return self._marks[where]
            for name, source, start, end in self._written:
                if source == where.source and start <= where.start <= end:
                    return name
        group = one.rule.partition(".")[0]
        return group if group in ("subject", "preheader", "text") else "page"


def _against_snapshot(case: Case, folder: Path) -> Json:
    """Returns the lines that a stored snapshot has and the message has not, and the reverse; None without one."""
    own = case.locale == case.template.settings.locale
    name = f"{case.template.name}{'' if own else f'.{case.locale}'}{f'-{case.sample}' if case.sample else ''}.txt"
    path = folder / name
    if not path.is_file():
        return {"file": name, "lines": None}
    kept = path.read_text(encoding="utf-8", errors="replace").splitlines()
    made = snapshot(snapshot_message(case.rendering)).splitlines()
    lines: list[str] = []
    for run in aligned(kept, made):
        if not run.same:
            lines += (f"-{line}" for line in kept[run.old_start : run.old_end])
            lines += (f"+{line}" for line in made[run.new_start : run.new_end])
    return {"file": name, "lines": lines[:_MOST_LINES]}
