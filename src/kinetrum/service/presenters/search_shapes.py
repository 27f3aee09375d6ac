"""From what finding returns to what the interface sends: groups, facets, offers."""

from __future__ import annotations

from kinetrum.actions.search.facets import FacetKey
from kinetrum.actions.search.run_groups import GroupPage, GroupView
from kinetrum.core.base.values import to_json
from kinetrum.core.query.settled import Key, Source
from kinetrum.core.query.writing import written_test
from kinetrum.service.presenters import shapes
from kinetrum.storage.search.run_facets import Facet
from kinetrum.storage.search.run_search import COUNT_CAP
from kinetrum.wire import search as wire


def group_page(page: GroupPage) -> wire.GroupPage:
    """Shape a page of groups."""
    keys = [key for _, key in page.columns]
    return wire.GroupPage(
        by=shapes.chosen("", page.by),
        groups=[_group(view, keys) for view in page.groups],
        columns=[shapes.chosen(text, key) for text, key in page.columns],
        goals=page.goals,
        count=page.count,
        count_is_capped=page.count_is_capped,
        more=page.more,
        remarks=page.remarks,
        python=page.python,
        shell=page.shell,
    )


def _group(view: GroupView, keys: list[Key]) -> wire.RunGroup:
    group = view.group
    return wire.RunGroup(
        present=group.present,
        value=to_json(view.value),
        runs=group.runs,
        last=shapes.row(view.last),
        cells=[_cell(view, key) for key in keys],
        query=view.query,
    )


def _cell(view: GroupView, key: Key) -> wire.GroupCell | None:
    group = view.group
    spread = group.spreads.get(key)
    if spread is None and key not in group.shared and key not in group.several:
        return None
    return wire.GroupCell(
        is_shared=key in group.shared,
        shared=to_json(group.shared.get(key)),
        spread=spread,
        several=group.several.get(key, 0),
    )


def facets(keys: list[FacetKey], fields: list[str]) -> wire.Facets:
    """Shape what can be asked for."""
    return wire.Facets(
        keys=[
            wire.FacetKey(
                scope=key.scope,
                name=key.name,
                kinds=[str(kind.name).lower() for kind in key.held.kinds],
                low=key.held.range.low if key.held.range else None,
                high=key.held.range.high if key.held.range else None,
                goal=key.goal,
            )
            for key in keys
        ],
        fields=fields,
    )


def facet(source: Source, facet_found: Facet, fitting: int) -> wire.Facet:
    """Shape what one key or field holds."""
    return wire.Facet(
        column=shapes.chosen("", source),
        runs=facet_found.runs,
        of_runs=min(fitting, COUNT_CAP),
        of_runs_is_capped=fitting > COUNT_CAP,
        nans=facet_found.nans,
        low=facet_found.range.low if facet_found.range else None,
        high=facet_found.range.high if facet_found.range else None,
        values=[
            wire.FrequentValue(value=to_json(each.value), runs=each.runs, query=written_test(source, each.value))
            for each in facet_found.values
        ],
        values_left_out=facet_found.values_left_out,
    )
