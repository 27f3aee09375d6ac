/** What a run printed: the last lines first, followed live, searched by the service. */
import { useEffect, useRef, useState } from 'react'
import type { OutputLine, RunDetail } from '../../api/client'
import { useOutput } from '../../api/following'
import { Section } from '../../parts/Marks'
import { Printed } from '../../parts/Printed'
import { useAddress } from '../../parts/selection'
import { plural } from '../../parts/values'
import { API } from '../../api/place'

const time = new Intl.DateTimeFormat('en-GB', { hour: '2-digit', minute: '2-digit', second: '2-digit' })

export function Output({ run }: { run: RunDetail }) {
  const { params, change } = useAddress()
  const find = params.get('find') ?? ''
  const stream = params.get('stream')
  const output = useOutput(run, stream, find)
  const { data } = output
  const base = `${API}/projects/${encodeURIComponent(run.project)}/experiments/${encodeURIComponent(run.experiment)}/runs/${run.number}/output/text`
  if (run.output_lines === 0 && run.status !== 'running') return null
  return (
    <Section
      className="col-span-12"
      title="Printed output"
      fact={
        <span className="flex items-center gap-3 text-xs">
          <span className="lab">{factOf(run, data, find)}</span>
          <select
            aria-label="Stream"
            className="field py-0 text-xs"
            value={stream ?? ''}
            onChange={(event) => change('stream', event.target.value || null)}
          >
            <option value="">both streams</option>
            <option value="stdout">stdout</option>
            <option value="stderr">stderr</option>
          </select>
          <input
            aria-label="Find in output"
            className="field w-44 py-0 text-xs"
            placeholder="find in output"
            value={find}
            spellCheck={false}
            onChange={(event) => change('find', event.target.value || null)}
          />
          <a className="btn leading-[18px]" href={base} download>
            Save
          </a>
        </span>
      }
    >
      <Lines run={run} output={output} find={find} />
    </Section>
  )
}

type Following = ReturnType<typeof useOutput>

function factOf(run: RunDetail, data: Following['data'], find: string): string {
  if (!data) return ''
  if (find) return `${plural(data.lines.length, 'line')}${data.more ? ' and more' : ''} with “${find}”`
  const left = data.tail_begin - data.head_end
  const all = plural(data.next_line + data.unfinished.length, 'line')
  return `${all}${left > 0 ? `, ${left.toLocaleString('en')} of them left out` : ''}${run.status === 'running' ? ', live' : ''}`
}

function Lines({ run, output, find }: { run: RunDetail; output: Following; find: string }) {
  const box = useRef<HTMLDivElement>(null)
  const [following, setFollowing] = useState(true)
  const { data } = output
  const wanted = find.toLowerCase()
  useEffect(() => {
    if (following && box.current) box.current.scrollTop = box.current.scrollHeight
  }, [data, following])
  if (!data) return <p className="lab py-2">Reading …</p>
  const first = data.lines[0]?.number ?? 0
  const empty = data.lines.length + data.unfinished.length === 0
  return (
    <div className="relative">
      <div
        ref={box}
        role="log"
        aria-label="Printed lines"
        tabIndex={0}
        className="mono max-h-[420px] min-h-16 overflow-auto bg-bg px-3 py-2"
        onScroll={(event) => {
          const { scrollTop, scrollHeight, clientHeight } = event.currentTarget
          setFollowing(scrollHeight - scrollTop - clientHeight < 24)
        }}
      >
        {first > 0 && !find && (
          <p className="py-1">
            <button className="btn" disabled={output.readingEarlier} onClick={() => void output.earlier()}>
              Show lines before {first.toLocaleString('en')}
            </button>
          </p>
        )}
        {data.lines.map((line) => (
          <Fragmented key={line.number} line={line} find={wanted} data={data} />
        ))}
        {data.unfinished.map((line, at) => (
          <Line key={`open-${at}`} line={line} find={wanted} />
        ))}
        {empty && (
          <p className="text-ink3">
            {find
              ? 'No line holds this text.'
              : run.status === 'running'
                ? 'Nothing was printed yet.'
                : 'Nothing was printed.'}
          </p>
        )}
      </div>
      {run.status === 'running' && !following && (
        <button className="btn btn-p absolute right-4 bottom-3" onClick={() => setFollowing(true)}>
          Follow
        </button>
      )}
    </div>
  )
}

function Fragmented({
  line,
  find,
  data,
}: {
  line: OutputLine
  find: string
  data: NonNullable<Following['data']>
}) {
  const gap = data.tail_begin - data.head_end
  return (
    <>
      {gap > 0 && line.number === data.tail_begin && (
        <p className="my-1 border-y border-line2 py-1 text-center text-ink3">
          {gap.toLocaleString('en')} lines were left out here
        </p>
      )}
      <Line line={line} find={find} />
    </>
  )
}

function Line({ line, find }: { line: OutputLine; find: string }) {
  const tone = line.stream === 'stderr' ? 'border-line2' : 'border-transparent'
  return (
    <div className="flex gap-3">
      <time className="shrink-0 text-ink3 select-none" dateTime={new Date(line.at / 1000).toISOString()}>
        {time.format(line.at / 1000)}
      </time>
      <span
        className={`min-w-0 border-l-2 pl-2 break-words whitespace-pre-wrap ${tone} ${line.stream === 'kinetrum' ? 'text-ink3 italic' : ''}`}
        title={line.stream}
      >
        <Printed text={line.text} find={find} />
      </span>
    </div>
  )
}
