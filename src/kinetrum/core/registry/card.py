"""A model's card: Markdown with sections, some of which a model may require."""

from __future__ import annotations

from collections.abc import Iterable

OUTLINE = """\
## Purpose

What the model is for, who uses it, what it decides.

## Data

What it was trained and judged on, and what that leaves out.

## Limits

Where it must not be used; how it fails.

## Use

How to fetch and call it; input and output.
"""
CARD_LIMIT = 200_000


def sections_of(card: str) -> dict[str, str]:
    """Return the text below each heading of a CommonMark document, up to the next heading of its level or above.

    Titles are compared without regard to case; a heading twice joins both texts.
    """
    from markdown_it import MarkdownIt

    lines = card.splitlines()
    heads = []
    tokens = MarkdownIt("commonmark").parse(card)
    for at, token in enumerate(tokens):
        if token.type == "heading_open" and token.level == 0 and token.map:
            heads.append((token.map[0], token.map[1], int(token.tag[1:]), tokens[at + 1].content.strip()))
    sections: dict[str, str] = {}
    for at, (_, start, level, title) in enumerate(heads):
        end = next((begin for begin, _, other, _ in heads[at + 1 :] if other <= level), len(lines))
        text = "\n".join(lines[start:end]).strip()
        sections[title] = f"{sections[title]}\n{text}" if title in sections else text
    return sections


def missing_sections(card: str, required: Iterable[str]) -> list[str]:
    """Return the required sections that a card lacks, leaves empty, or still has with the outline's words."""
    outline = {title.lower(): text for title, text in sections_of(OUTLINE).items()}
    written = {
        title.lower() for title, text in sections_of(card).items() if text and outline.get(title.lower()) != text
    }
    return [title for title in required if title.lower() not in written]
