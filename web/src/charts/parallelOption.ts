/** What ECharts draws of parallel coordinates: one line for each run over all axes. */
import type { EChartsCoreOption } from 'echarts/core'
import type { Drawn, DrawnColumn } from '../api/comparing'
import { look, resolved } from '../parts/looks'
import { isNumeric, levelsOf, nameOf, shownAt } from './drawnColumns'
import { about, base, FONT, tip, tones, type Slots } from './runsOption'

export type ParallelAxis = {
  column: DrawnColumn
  log: boolean
  /** Names that are brushed; they stand out, since a brush over one name alone has no length. */
  chosen?: Set<string>
}

const reading = (one: ParallelAxis, at: number): number | string | null => shownAt(one.column, at, one.log)

/** One line for each run over all axes; better is up wherever a goal says which way that is. */
export function parallelOption(drawn: Drawn, axes: ParallelAxis[], slots: Slots): EChartsCoreOption {
  const { quiet, text, accent, surface } = tones()
  const lines = drawn.runs.map((run, at) => ({
    at,
    slot: slots.get(String(run.number)) ?? 0,
    value: axes.map((one) => reading(one, at) ?? '-'),
  }))
  const chosen = lines.filter((line) => line.slot > 0)
  return {
    ...base(),
    parallel: {
      left: 60,
      right: 90,
      top: 44,
      bottom: 18,
      axisExpandable: false,
      parallelAxisDefault: {
        nameLocation: 'end',
        nameGap: 14,
        nameTextStyle: { color: text, fontSize: 12, fontWeight: 600, fontFamily: FONT },
        nameTruncate: { maxWidth: 110 },
        axisLine: { lineStyle: { color: quiet } },
        axisTick: { show: false },
        splitLine: { show: false },
        axisLabel: {
          color: quiet,
          fontSize: 11,
          textBorderColor: surface,
          textBorderWidth: 3,
          width: 110,
          overflow: 'truncate',
        },
      },
    },
    parallelAxis: axes.map((one, dim) => {
      const numeric = isNumeric(one.column)
      return {
        dim,
        id: one.column.text,
        areaSelectStyle: { width: 12, borderWidth: 1.5, borderColor: accent, color: accent, opacity: 0.18 },
        nameLocation: numeric && one.column.goal?.direction === 'lower' ? 'start' : 'end',
        name: `${nameOf(one.column)}${one.log && numeric ? ' (log)' : ''}`,
        type: numeric ? (one.log ? 'log' : 'value') : 'category',
        ...(numeric
          ? { scale: true, inverse: one.column.goal?.direction === 'lower' }
          : {
              data: levelsOf(one.column).map((name) =>
                one.chosen?.has(name) ? { value: name, textStyle: { color: accent, fontWeight: 700 } } : name,
              ),
            }),
      }
    }),
    tooltip: {
      ...tip(),
      formatter: ({ data }: { data: { at?: number } }) =>
        data.at === undefined ? '' : about(drawn, data.at, axes.map((one) => one.column)), // prettier-ignore
    },
    series: [
      {
        type: 'parallel',
        progressive: 0,
        inactiveOpacity: 0.12,
        activeOpacity: 1,
        lineStyle: { color: quiet, width: 1, opacity: lines.length > 200 ? 0.35 : 0.6 },
        emphasis: { lineStyle: { color: text, width: 2, opacity: 1 } },
        data: lines.filter((line) => line.slot === 0),
      },
      ...chosen.map((line) => ({
        type: 'parallel',
        progressive: 0,
        inactiveOpacity: 0.3,
        lineStyle: {
          color: resolved(look(line.slot).colour),
          width: 2.2,
          opacity: 1,
          type: look(line.slot).dash.length ? look(line.slot).dash : ('solid' as const),
        },
        data: [line],
        z: 5,
      })),
    ],
  }
}
