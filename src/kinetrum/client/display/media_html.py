"""Plots and media as a notebook shows them: drawn, in HTML that needs nothing else."""

from __future__ import annotations

import base64
import html
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from kinetrum.client.display.html import html_table
from kinetrum.core.base.errors import KinetrumError
from kinetrum.core.base.values import show

if TYPE_CHECKING:
    from kinetrum.client.reading.recorded_media import KeptMedia
    from kinetrum.core.plots.overlay import Named

# What is shown in a page that is kept with its outputs stays small.
_ITEMS_SHOWN, _BYTES_SHOWN, _ROWS_SHOWN, _TEXT_SHOWN = 12, 8 * 1024 * 1024, 20, 20_000


def plots_as_html(plots: Sequence[Named], title: str) -> str:
    """Draw plots laid over one another, or list what they say in numbers where nothing is installed that draws."""
    from kinetrum.client.display.plot_drawing import as_svg
    from kinetrum.core.plots.overlay import numbers_of

    rows = [
        [line.name, *("" if value is None else f"{value:.6g}" for value in line.values)] for line in numbers_of(plots)
    ]
    numbers = html_table(["", *(label for label, _ in plots)], rows) if rows else ""
    try:
        return f"<div>{as_svg(plots, title)}{numbers}</div>"
    except KinetrumError as error:
        return f"<p>{html.escape(title)}: {html.escape(str(error))}</p>{numbers}"


def media_as_html(media: KeptMedia) -> str:
    """Show what a run kept: pictures, players, the text, or the first rows of the table."""
    where = f"{media.name}{'' if media.step is None else f', step {media.step}'}"
    head = f"<p><b>{html.escape(where)}</b> {html.escape(media.reference)}</p>"
    if media.kind == "table":
        rows = media.rows(limit=_ROWS_SHOWN)
        return head + html_table(list(rows.columns), [[show(cell) for cell in row] for row in rows])
    shown, size, parts = 0, 0, [head]
    for item in media.items:
        if shown == _ITEMS_SHOWN or size + item["size"] > _BYTES_SHOWN:
            break
        parts.append(_item(media, item["file"], item["kind"], item["type"], item.get("caption") or ""))
        shown, size = shown + 1, size + item["size"]
    left = len(media.items) - shown
    if left:
        parts.append(f"<p>{left} more: download() brings them.</p>")
    return "".join(parts)


def first_drawn(names: Sequence[str], draw: Callable[[str], str], most: int) -> str:
    """Draw the first of several things, and name those that are left out."""
    more = f"<p>{len(names) - most} more: {html.escape(', '.join(names[most:]))}</p>" if len(names) > most else ""
    return "".join(map(draw, names[:most])) + more


def _item(media: KeptMedia, file: str, kind: str | None, media_type: str | None, caption: str) -> str:
    content = media.read(file)
    if kind == "text" or media_type is None:
        text = content.decode("utf-8", "replace")
        return f"<pre>{html.escape(text[:_TEXT_SHOWN])}{' …' if len(text) > _TEXT_SHOWN else ''}</pre>"
    address = f"data:{html.escape(media_type, quote=True)};base64,{base64.b64encode(content).decode()}"
    label = html.escape(caption or file)
    if kind == "sound":
        return f'<figure><audio controls src="{address}"></audio><figcaption>{label}</figcaption></figure>'
    if kind == "video":
        return f'<figure><video controls width="480" src="{address}"></video><figcaption>{label}</figcaption></figure>'
    return (
        '<figure style="display: inline-block; margin: 4px">'
        f'<img src="{address}" alt="{label}" style="max-width: 320px"><figcaption>{label}</figcaption></figure>'
    )
