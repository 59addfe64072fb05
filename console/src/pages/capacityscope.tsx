import { useQuery } from '@tanstack/react-query'
import { Segmented } from 'antd'
import { useState } from 'react'
import { Link, useParams, useSearchParams } from 'react-router'
import { get, type CapacityDetail, type CapacityGroup, type CapacityUsers } from '../api/client'
import { useScopes } from '../api/scopes'
import { Empty, Failure, Folding, Mono, plural, count } from '../parts/bits'
import { Chart, type Inks } from '../parts/chart'
import { RunsOut, siteDay } from '../parts/forecast'
import { Rehearse } from '../parts/rehearse'

/** The points of a chart, thinned so that a browser draws them at once. */
function thinned(d: CapacityDetail) {
  const step = Math.max(1, Math.floor(d.points.length / 1500))
  return d.points.filter((_, i) => i % step === 0 || i === d.points.length - 1)
}

function useOption(d: CapacityDetail, days: number) {
  return (i: Inks) => {
    const points = thinned(d)
    const bands = d.bands.slice(0, Math.max(7, Math.round(days / 2)))
    const warn = d.thresholds.used > 0 ? (d.size * d.thresholds.used) / 100 : undefined
    const lines = [
      { yAxis: d.size, name: `size ${count(d.size)}`, lineStyle: { color: i.bad, type: 'dashed' } },
      ...(warn
        ? [{ yAxis: warn, name: `warns at ${d.thresholds.used} %`, lineStyle: { color: i.warn, type: 'dotted' } }]
        : []),
    ].map((l) => ({ ...l, label: { formatter: '{b}', position: 'insideStartTop', color: i.quiet, fontSize: 11 } }))
    const marks = d.marks.slice(0, 12).map((m) => ({
      xAxis: Date.parse(m.at),
      name: 'rev ' + m.revision,
      lineStyle: { color: i.quiet, type: 'dotted' },
      label: { formatter: '{b}', color: i.quiet, fontSize: 10, rotate: 90, position: 'insideEndTop' },
    }))
    const band = (of: 'low' | 'mid' | 'high') => bands.map((b) => [Date.parse(b.day), b[of]])
    return {
      grid: { left: 48, right: 14, top: 16, bottom: 42 },
      tooltip: {
        trigger: 'axis',
        confine: true,
        backgroundColor: i.paper,
        borderColor: i.line,
        textStyle: { color: i.text, fontSize: 12 },
        valueFormatter: (v: number) => (v === undefined ? '' : Math.round(v).toLocaleString('en')),
      },
      legend: {
        bottom: 0,
        textStyle: { color: i.quiet },
        itemHeight: 8,
        data: ['used', 'highest of the day, expected'],
      },
      xAxis: {
        type: 'time',
        axisLine: { lineStyle: { color: i.line } },
        axisLabel: { color: i.quiet, hideOverlap: true },
        splitLine: { show: false },
      },
      yAxis: {
        type: 'value',
        min: 0,
        axisLabel: { color: i.quiet },
        splitLine: { lineStyle: { color: i.line } },
      },
      series: [
        {
          name: 'used',
          type: 'line',
          showSymbol: false,
          lineStyle: { color: i.indigo, width: 1.6 },
          itemStyle: { color: i.indigo },
          data: points.map((p) => [Date.parse(p.at), p.peak]),
          markLine: { symbol: 'none', data: [...lines, ...marks] },
        },
        {
          name: 'at least',
          type: 'line',
          stack: 'band',
          showSymbol: false,
          silent: true,
          lineStyle: { opacity: 0 },
          itemStyle: { color: i.indigo },
          data: band('low'),
        },
        {
          name: 'at most',
          type: 'line',
          stack: 'band',
          showSymbol: false,
          silent: true,
          lineStyle: { opacity: 0 },
          itemStyle: { color: i.indigo },
          areaStyle: { color: i.indigo, opacity: 0.18 },
          tooltip: { show: false },
          data: bands.map((b) => [Date.parse(b.day), b.high - b.low]),
        },
        {
          name: 'highest of the day, expected',
          type: 'line',
          showSymbol: false,
          lineStyle: { color: i.indigo, width: 1.6, type: 'dashed' },
          itemStyle: { color: i.indigo },
          data: band('mid'),
        },
      ],
    }
  }
}

const week = ['Mon', 'Tue', 'Wed', 'Thu', 'Fri', 'Sat', 'Sun']

/** How busy each hour of the week is. */
function Busy({ week: hours, size, zone }: { week: number[][]; size: number; zone: string }) {
  const most = Math.max(...hours.flat(), 1)
  if (most <= 1 && hours.flat().every((n) => n < 1)) return <Empty>Known once there is a day of history.</Empty>
  return (
    <Chart
      label={`Use in each hour of the week (${zone})`}
      height={190}
      option={(i) => ({
        grid: { left: 36, right: 10, top: 6, bottom: 24 },
        tooltip: {
          confine: true,
          backgroundColor: i.paper,
          borderColor: i.line,
          textStyle: { color: i.text, fontSize: 12 },
          formatter: (p: { value: number[] }) =>
            `${week[p.value[1]]} ${p.value[0]}:00 ${zone}: ${p.value[2].toLocaleString('en')}${size ? ` of ${size.toLocaleString('en')}` : ''}`,
        },
        xAxis: {
          type: 'category',
          data: Array.from({ length: 24 }, (_, h) => h),
          axisLabel: { color: i.quiet, interval: 2 },
          axisLine: { show: false },
          axisTick: { show: false },
        },
        yAxis: {
          type: 'category',
          inverse: true,
          data: week,
          axisLabel: { color: i.quiet },
          axisLine: { show: false },
          axisTick: { show: false },
        },
        visualMap: {
          show: false,
          min: Math.min(...hours.flat().filter((n) => n >= 0)),
          max: most,
          inRange: { color: [i.line, i.indigo] },
        },
        series: [
          {
            type: 'heatmap',
            itemStyle: { borderColor: i.paper, borderWidth: 1 },
            data: hours.flatMap((row, d) => row.map((n, h) => [h, d, n]).filter((x) => x[2] >= 0)),
          },
        ],
      })}
      table={{
        head: ['', ...Array.from({ length: 24 }, (_, h) => String(h))],
        rows: hours.map((row, d) => [week[d], ...row.map((n) => (n < 0 ? '' : n))]),
      }}
    />
  )
}

function Groups({ title, list, all }: { title: string; list: CapacityGroup[]; all: number }) {
  return (
    <div>
      <h2>{title}</h2>
      {list.length === 0 && <span className="quiet">none</span>}
      <table style={{ width: '100%', borderSpacing: '0 2px' }}>
        <tbody>
          {list.slice(0, 6).map((g) => (
            <tr key={g.name}>
              <td>
                <Folding text={g.name} />
              </td>
              <td style={{ width: 60 }}>
                <span className="bar" aria-hidden>
                  <span style={{ width: `${(100 * g.clients) / Math.max(all, 1)}%` }} />
                </span>
              </td>
              <td className="num" style={{ width: 52 }}>
                {g.clients.toLocaleString('en')}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}

/** Who uses the addresses, and what could be had back. */
function Users({ name }: { name: string }) {
  const users = useQuery({
    queryKey: ['capacity', 'users', name],
    queryFn: () => get<CapacityUsers>(`/capacity/${encodeURIComponent(name)}/users`),
  })
  const u = users.data
  if (!u) return <Failure error={users.error} />
  return (
    <section className="panel">
      <h2>Who uses it</h2>
      <div className="sums" style={{ marginBottom: 12 }}>
        <span>
          <b>{u.active.toLocaleString('en')}</b>hold an address
        </span>
        <span>
          <b>{u.gone.toLocaleString('en')}</b>of them seem gone
        </span>
        <span>
          <b>{u.once.toLocaleString('en')}</b>came once
        </span>
        <span>
          <b>{u.manyTotal.toLocaleString('en')}</b>hold several
        </span>
        <span>
          <b>{u.winBack.addresses.toLocaleString('en')}</b>could be had back
          {u.winBack.days > 0 && `: ${plural(u.winBack.days, 'day')}`}
        </span>
      </div>
      <div className="grid three">
        <Groups title="Vendor class" list={u.vendors} all={u.active} />
        <Groups title="Host name" list={u.names} all={u.active} />
        <Groups title="Held for" list={u.ages} all={u.active} />
        <Groups title="Relay" list={u.relays} all={u.active} />
        <Groups title="Rule that fits" list={u.rules} all={u.active} />
        <div>
          <h2>To be had back</h2>
          {u.winBack.addresses === 0 && <span className="quiet">nothing</span>}
          <ul style={{ margin: 0, paddingLeft: 16 }}>
            {u.winBack.excluded.map((x) => (
              <li key={x}>
                <Mono>{x}</Mono> is excluded for nobody
              </li>
            ))}
            {u.winBack.unclaimed.slice(0, 4).map((x) => (
              <li key={x}>{x} was never claimed</li>
            ))}
            {u.winBack.abandoned.slice(0, 4).map((x) => (
              <li key={x}>
                <Mono>{x}</Mono> is abandoned
              </li>
            ))}
          </ul>
        </div>
      </div>
    </section>
  )
}

/** The use of one scope over time: chart, busy hours, who uses it, what would help. */
export default function CapacityScope() {
  const { name = '' } = useParams()
  const [params, setParams] = useSearchParams()
  const since = params.get('since') ?? '28d'
  const pool = params.get('pool') ?? undefined
  const of = params.get('of') ?? 'scope'
  const [rehearsing, setRehearsing] = useState(false)
  const detail = useQuery({
    queryKey: ['capacity', 'detail', of, name, pool, since],
    queryFn: () => get<CapacityDetail>('/capacity/' + encodeURIComponent(name), { since, pool, of }),
    refetchInterval: 60000,
    placeholderData: (old) => old,
  })
  const scopes = useScopes()
  const d = detail.data
  const all = name === '~all'
  const whole = all || of === 'supernet'
  const title = all ? 'All scopes together' : of === 'supernet' ? 'Supernet ' + name : name
  const scope = scopes.data?.find((s) => s.name === name)
  const option = useOption(
    d ?? ({ points: [], bands: [], marks: [], thresholds: { used: 0 } } as never),
    parseInt(since),
  )
  if (!d)
    return (
      <>
        <h1>{title}</h1>
        <Failure error={detail.error} />
      </>
    )
  const churn = d.points.reduce((n, p) => ({ new: n.new + p.new, back: n.back + p.returned, left: n.left + p.left }), {
    new: 0,
    back: 0,
    left: 0,
  })
  return (
    <>
      <div className="head">
        <div>
          <h1>
            {title}{' '}
            {pool && (
              <small>
                <Mono>{pool}</Mono>
              </small>
            )}
          </h1>
          <span className="quiet">
            <Link to="/capacity">Capacity</Link>
            {!whole && (
              <>
                {' '}
                · <Link to={'/plan/' + name}>its plan</Link> · <Link to={'/leases?scope=' + name}>its leases</Link>
              </>
            )}
          </span>
        </div>
        <Segmented
          value={since}
          onChange={(v) => setParams((p) => (p.set('since', v), p), { replace: true })}
          options={[
            { value: '1d', label: 'Day' },
            { value: '7d', label: 'Week' },
            { value: '28d', label: '4 weeks' },
            { value: '90d', label: '3 months' },
            { value: '365d', label: 'Year' },
          ]}
        />
      </div>
      <div className="grid" style={{ gridTemplateColumns: '250px minmax(0, 1fr)', alignItems: 'start' }}>
        <section className="panel">
          <h2>Runs out</h2>
          <div style={{ fontSize: 15, marginBottom: 4 }}>
            <RunsOut of={d} />
          </div>
          {d.forecast && <p style={{ margin: '0 0 10px' }}>{d.forecast.text}.</p>}
          <dl className="facts">
            <dt>Used</dt>
            <dd>
              <b>{d.used.toLocaleString('en')}</b> of {count(d.size)} ({Math.round(100 * d.share)} %)
            </dd>
            <dt>Left here</dt>
            <dd>{count(d.headroom)}</dd>
            {d.partner > 0 && (
              <>
                <dt>At the partner</dt>
                <dd>{count(d.partner)}</dd>
              </>
            )}
            <dt>Active</dt>
            <dd>{d.active.toLocaleString('en')}</dd>
            <dt>Reserved</dt>
            <dd>
              {d.reserved.toLocaleString('en')}, {d.claimed} claimed
            </dd>
            <dt>Abandoned</dt>
            <dd>{d.abandoned}</dd>
            {d.forecast && (
              <>
                <dt>Highest</dt>
                <dd>{Math.round(d.forecast.peak).toLocaleString('en')} in a week</dd>
                {d.forecast.step && (
                  <>
                    <dt>Level</dt>
                    <dd>another since {siteDay(d.forecast.step)}</dd>
                  </>
                )}
                {d.forecast.events.length > 0 && (
                  <>
                    <dt>Left out</dt>
                    <dd>{d.forecast.events.map((at) => siteDay(at)).join(', ')}: unlike other days</dd>
                  </>
                )}
              </>
            )}
            <dt>Came, left</dt>
            <dd>
              {churn.new.toLocaleString('en')} new, {churn.back.toLocaleString('en')} back,{' '}
              {churn.left.toLocaleString('en')} left
            </dd>
          </dl>
        </section>
        <section className="panel">
          <h2>Addresses used, and what is expected</h2>
          <Chart
            label={`Addresses used of ${title}, with the size of its pools and what is expected`}
            height={300}
            option={option}
            table={{
              head: ['When (UTC)', 'Lowest', 'Mean', 'Highest', 'Size', 'New', 'Back', 'Left'],
              rows: d.points.map((p) => [
                p.at.slice(0, 16).replace('T', ' '),
                p.low,
                p.mean,
                p.peak,
                p.size,
                p.new,
                p.returned,
                p.left,
              ]),
            }}
          />
        </section>
      </div>
      <div
        className="grid"
        style={{ gridTemplateColumns: 'minmax(0, 1fr) minmax(0, 1fr)', marginTop: 14, alignItems: 'start' }}
      >
        <section className="panel">
          <h2>
            Busy hours <small>{d.zone}</small>
          </h2>
          <Busy week={d.busy} size={d.size} zone={d.zone} />
        </section>
        <section className="panel">
          <h2>What would help most</h2>
          {d.helps.length === 0 && <Empty>Nothing is needed.</Empty>}
          {d.helps.map((h) => (
            <div key={h.kind} className="note">
              <b>+{h.addresses.toLocaleString('en')}</b>
              {h.days ? <b>, {plural(h.days, 'day')}</b> : ''}: {h.text}.
              {h.command && (
                <div>
                  <code className="mono">{h.command}</code>
                </div>
              )}
            </div>
          ))}
          {scope && (
            <div style={{ marginTop: 10 }}>
              <a
                role="button"
                tabIndex={0}
                onClick={() => setRehearsing(true)}
                onKeyDown={(e) => e.key === 'Enter' && setRehearsing(true)}
              >
                Rehearse a change on the last week
              </a>
            </div>
          )}
        </section>
      </div>
      <div style={{ marginTop: 14 }}>{of !== 'supernet' && <Users name={name} />}</div>
      {scope && <Rehearse open={rehearsing} scope={scope} onClose={() => setRehearsing(false)} />}
    </>
  )
}
