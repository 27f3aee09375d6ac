/** What goes along with a value over these runs: factors by their share, how sure, and where to look closer. */
import { useEffects } from '../../../api/comparing'
import { useAddress } from '../../../parts/selection'
import { show } from '../../../parts/values'
import { Choice, Frame } from './Frame'
import { isGoal, isValue, offered, optionsOf, pick } from './columnsToDraw'
import { useLensHeight, type LensProps } from './shared'
import { DataTable } from '../../../parts/DataTable'

const LEVELS = 6
const SAID = { clear: 'clear', likely: 'likely', open: 'not told from chance' }

export default function EffectsLens({ place, page, query }: LensProps) {
  const height = useLensHeight()
  const { params, change, changeAll } = useAddress()
  const all = offered(page)
  const on = pick(all, params.get('ly'), isGoal, isValue)
  const has = all.some(isValue)
  const { data, error } = useEffects(place.project, place.experiment, has ? on : undefined, query)
  return (
    <Frame
      title={`Effects on ${on}`}
      drawn={undefined}
      option={null}
      note="what goes along, not what causes: nobody planned these runs as one experiment"
      choices={
        <Choice
          name="on"
          value={on}
          options={optionsOf(all.filter(isValue))}
          onChange={(value) => change('ly', value)}
        />
      }
    >
      <div className="overflow-auto py-1" style={{ height }} tabIndex={0} aria-label="Effects">
        {!has && <p className="lab py-2">No run has a value yet.</p>}
        {error && <p className="py-2 text-bad">{error.message}</p>}
        {data && <p className="py-1 text-sm">{data.sentence}</p>}
        {data && data.effects.length > 0 && (
          <DataTable
            label={`Effects on ${on}`}
            className="w-full"
            rows={data.effects}
            keyOf={(effect) => effect.factor}
            head="border-b border-line text-left text-xs text-ink2"
            columns={[
              {
                name: 'factor',
                heads: true,
                className: 'mono pr-4',
                cell: (effect) => (
                  <button
                    className="link"
                    title="See these groups side by side"
                    onClick={() => changeAll({ lens: 'spread', by: effect.factor, ly: on })}
                  >
                    {effect.factor}
                  </button>
                ),
              },
              {
                name: 'share of the variance',
                className: 'w-44 pr-4',
                cell: (effect) => (
                  <span className="flex items-center gap-2">
                    <span className="w-10 text-right">{Math.round(effect.share * 100)} %</span>
                    <span className="block h-1.5 grow bg-line">
                      <span
                        className={`block h-full ${effect.certainty === 'open' ? 'bg-ink3' : 'bg-accent'}`}
                        style={{ width: `${Math.round(effect.share * 100)}%` }}
                      />
                    </span>
                  </span>
                ),
              },
              {
                name: 'how sure',
                className: (effect) =>
                  `pr-4 text-xs whitespace-nowrap ${effect.certainty === 'open' ? 'text-ink3' : 'strong'}`,
                cell: (effect) => (
                  <>
                    {SAID[effect.certainty]}
                    {effect.together.length > 0 && (
                      <span className="font-normal text-ink3">
                        {' '}
                        · always with {effect.together.slice(0, 2).join(', ')}
                      </span>
                    )}
                  </>
                ),
              },
              {
                name: 'means',
                head: `mean of ${on} (runs)`,
                className: 'text-xs text-ink2',
                cell: (effect) => (
                  <>
                    {effect.levels.slice(0, LEVELS).map((level) => (
                      <span key={level.name} className="mr-3 whitespace-nowrap">
                        {level.name} <b className="strong">{show(level.mean, 3)}</b> ({level.runs})
                      </span>
                    ))}
                    {effect.levels.length > LEVELS && `${effect.levels.length - LEVELS} more`}
                  </>
                ),
              },
            ]}
          />
        )}
        {data?.interactions.map((one) => (
          <p key={one.factors.join()} className="lab pt-1">
            {one.factors.join(' and ')} may work together: their cells say more than the sum of both (p{' '}
            {one.p.toPrecision(2)}).
          </p>
        ))}
        {data && data.unvaried.length > 0 && (
          <p className="lab pt-1">Not varied, or different in every run: {data.unvaried.join(', ')}.</p>
        )}
      </div>
    </Frame>
  )
}
