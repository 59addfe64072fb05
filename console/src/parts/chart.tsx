import { BarChart, HeatmapChart, LineChart } from 'echarts/charts'
import {
  AriaComponent,
  GridComponent,
  LegendComponent,
  MarkAreaComponent,
  MarkLineComponent,
  TooltipComponent,
  VisualMapComponent,
} from 'echarts/components'
import { init, use as equip, type EChartsCoreOption } from 'echarts/core'
import { SVGRenderer } from 'echarts/renderers'
import { Button } from 'antd'
import { useEffect, useRef, useState } from 'react'

equip([
  BarChart,
  HeatmapChart,
  LineChart,
  AriaComponent,
  GridComponent,
  LegendComponent,
  MarkAreaComponent,
  MarkLineComponent,
  TooltipComponent,
  VisualMapComponent,
  SVGRenderer,
])

/** The colours of the page as it is, light or dark. */
export interface Inks {
  text: string
  quiet: string
  line: string
  indigo: string
  teal: string
  warn: string
  bad: string
  paper: string
}

const inks = (): Inks => {
  const css = getComputedStyle(document.documentElement)
  const of = (name: string) => css.getPropertyValue('--' + name).trim()
  return {
    text: of('text'),
    quiet: of('quiet'),
    line: of('line'),
    indigo: of('indigo'),
    teal: of('good'),
    warn: of('warn'),
    bad: of('bad'),
    paper: of('paper'),
  }
}

/** Draws again when the theme changes. */
function useInks(): Inks {
  const [now, setNow] = useState(inks)
  useEffect(() => {
    const seen = new MutationObserver(() => setNow(inks()))
    seen.observe(document.documentElement, { attributes: true, attributeFilter: ['data-theme'] })
    return () => seen.disconnect()
  }, [])
  return now
}

/** A chart with words for those who cannot see it, and its numbers as a table. */
export function Chart({
  label,
  height,
  option,
  table,
}: {
  label: string
  height: number
  option: (i: Inks) => EChartsCoreOption
  table?: { head: string[]; rows: (string | number)[][] }
}) {
  const box = useRef<HTMLDivElement>(null)
  const colours = useInks()
  const [plain, setPlain] = useState(false)
  const text = JSON.stringify(option(colours))
  useEffect(() => {
    if (!box.current || plain) return
    const chart = init(box.current, null, { renderer: 'svg' })
    chart.setOption({
      animation: false,
      textStyle: { fontFamily: 'inherit', fontSize: 11.5, color: colours.quiet },
      aria: { enabled: true, decal: { show: false }, label: { description: label } },
      ...option(colours),
    })
    const resized = new ResizeObserver(() => chart.resize())
    resized.observe(box.current)
    return () => {
      resized.disconnect()
      chart.dispose()
    }
    // The option is made anew at each rendering; its text says whether it changed.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [text, colours, plain, label])
  return (
    <figure style={{ margin: 0 }}>
      {plain && table ? (
        <div key="table" style={{ maxHeight: height, overflow: 'auto' }}>
          <table className="plain">
            <caption className="quiet">{label}</caption>
            <thead>
              <tr>
                {table.head.map((h) => (
                  <th key={h}>{h}</th>
                ))}
              </tr>
            </thead>
            <tbody>
              {table.rows.map((r, i) => (
                <tr key={i}>
                  {r.map((c, n) => (
                    <td key={n} className={typeof c === 'number' ? 'num' : ''}>
                      {typeof c === 'number' ? c.toLocaleString('en') : c}
                    </td>
                  ))}
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      ) : (
        <div key="chart" ref={box} style={{ height }} role="img" aria-label={label} />
      )}
      {table && (
        <figcaption style={{ textAlign: 'right' }}>
          <Button type="link" size="small" onClick={() => setPlain(!plain)}>
            {plain ? 'As a chart' : 'As a table'}
          </Button>
        </figcaption>
      )}
    </figure>
  )
}
