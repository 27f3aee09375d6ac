"""Atom feeds (RFC 4287) of what happened to models."""

from __future__ import annotations

from collections.abc import Sequence
from xml.etree import ElementTree

from kinetrum.actions.registry.registry_views import ModelView
from kinetrum.storage.db.clock import iso
from kinetrum.storage.people.journal import JournalRow

MEDIA_TYPE = "application/atom+xml"
ENTRIES = 100
_ATOM = "http://www.w3.org/2005/Atom"


def feed_of(view: ModelView, entries: Sequence[JournalRow], base: str) -> bytes:
    """Write a model's journal as a feed; `base` is the service's address."""
    ElementTree.register_namespace("", _ATOM)
    page = f"{base}/{view.project}/models/{view.row.name}"
    feed = ElementTree.Element(f"{{{_ATOM}}}feed")
    newest = iso(entries[0].at if entries else view.row.created_at) or ""
    _add(feed, "id", f"{page}#journal")
    _add(feed, "title", f"{view.row.name} in {view.project}")
    _add(feed, "updated", newest)
    _link(feed, "self", f"{base}/api/v1/projects/{view.project}/models/{view.row.name}/feed")
    _link(feed, "alternate", page)
    for entry in entries:
        _entry(feed, entry, page)
    written: bytes = ElementTree.tostring(feed, encoding="utf-8", xml_declaration=True)
    return written


def _entry(feed: ElementTree.Element, entry: JournalRow, page: str) -> None:
    made = ElementTree.SubElement(feed, f"{{{_ATOM}}}entry")
    _add(made, "id", f"{page}#journal-{entry.entry_id}")
    _add(made, "title", f"{entry.act} {entry.subject}")
    _add(made, "updated", iso(entry.at) or "")
    author = ElementTree.SubElement(made, f"{{{_ATOM}}}author")
    _add(author, "name", entry.person or "the service")
    number = entry.subject.partition("@")[2]
    _link(made, "alternate", f"{page}/{number}" if number else page)
    change = "; ".join(
        f"{name}: {_said(before)} → {_said(after)}" for name, before, after in _changes(entry.before, entry.after)
    )
    _add(made, "content", ". ".join(part for part in (change, entry.comment) if part) or entry.act).set("type", "text")


def _changes(before: object, after: object) -> list[tuple[str, object, object]]:
    if isinstance(before, dict) and isinstance(after, dict):
        return [(str(name), before.get(name), after.get(name)) for name in after]
    return [("review", before, after)] if isinstance(before, str) and isinstance(after, str) else []


def _said(value: object) -> str:
    return "none" if value is None else str(value)[:200]


def _add(parent: ElementTree.Element, name: str, text: str) -> ElementTree.Element:
    made = ElementTree.SubElement(parent, f"{{{_ATOM}}}{name}")
    # Characters that XML cannot hold are left out.
    made.text = "".join(sign for sign in text if sign >= " " or sign in "\n\t")
    return made


def _link(parent: ElementTree.Element, relation: str, address: str) -> None:
    ElementTree.SubElement(parent, f"{{{_ATOM}}}link", {"rel": relation, "href": address})
