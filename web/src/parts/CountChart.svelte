<script lang="ts">
  import uPlot from 'uplot'
  import 'uplot/dist/uPlot.min.css'
  import { looks } from '../lib/theme.svelte'

  // Numbers by day, one series beside another, as bars. A click on a day calls onday with it.
  let {
    days,
    series,
    height = 150,
    onday,
  }: {
    days: string[]
    series: { name: string; color: string; values: number[] }[]
    height?: number
    onday?: (day: string) => void
  } = $props()
  let host = $state<HTMLElement>()

  // A canvas takes no variables: the colours are looked up where the chart stands.
  function color(name: string): string {
    const probe = document.createElement('span')
    probe.style.color = `var(--${name})`
    host!.append(probe)
    const found = getComputedStyle(probe).color
    probe.remove()
    return found
  }

  $effect(() => {
    void looks.theme
    if (!host || !days.length) return
    const x = days.map((d) => Date.parse(d + 'T00:00:00Z') / 1000)
    const axis = { stroke: color('muted'), grid: { stroke: color('line'), width: 1 }, ticks: { stroke: color('line') } }
    // The bars of a day stand beside each other.
    const bars = uPlot.paths.bars!
    const chart = new uPlot(
      {
        width: host.clientWidth,
        height,
        legend: { show: false },
        cursor: { y: false, points: { show: false } },
        tzDate: (ts) => uPlot.tzDate(new Date(ts * 1000), 'Etc/UTC'),
        scales: { y: { range: (_, __, max) => [0, Math.max(max, 1)] } },
        axes: [
          { ...axis, values: (_, splits) => splits.map((v) => new Date(v * 1000).toISOString().slice(5, 10)) },
          { ...axis, size: 56, values: (_, splits) => splits.map((v) => v.toLocaleString('en')) },
        ],
        series: [
          {},
          ...series.map((s, i) => ({
            label: s.name,
            stroke: color(s.color),
            fill: color(s.color),
            paths: bars({
              size: [0.8 / series.length, 40],
              align: i * 2 < series.length - 1 ? -1 : i * 2 > series.length - 1 ? 1 : 0,
            }),
            points: { show: false },
          })),
        ],
      },
      [x, ...series.map((s) => s.values)],
      host,
    )
    chart.over.style.cursor = onday ? 'pointer' : ''
    chart.over.addEventListener('click', () => {
      const i = chart.cursor.idx
      if (i != null && days[i]) onday?.(days[i]!)
    })
    const resized = new ResizeObserver(() => host && chart.setSize({ width: host.clientWidth, height }))
    resized.observe(host)
    return () => {
      resized.disconnect()
      chart.destroy()
    }
  })
  const most = $derived(series.map((s) => `${s.name}: ${s.values.reduce((a, b) => a + b, 0).toLocaleString('en')}`))
</script>

<div
  bind:this={host}
  class="w-full"
  role="img"
  aria-label="By day, from {days[0]} to {days.at(-1)}: {most.join('; ')}"
></div>
