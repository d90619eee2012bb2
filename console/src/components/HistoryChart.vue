<script setup lang="ts">
import { type ChartData, type ChartOptions, Chart, Legend, LinearScale, LineElement, PointElement, type Scale, Tooltip } from 'chart.js'
import { computed } from 'vue'
import { Line as LineChart } from 'vue-chartjs'
import { useTheme } from 'vuetify'

import { type Line, ticks } from '../history'
import { t } from '../i18n'

Chart.register(Legend, LinearScale, LineElement, PointElement, Tooltip)

const props = defineProps<{ title: string; lines: Line[]; from: number; until: number; value: (y: number) => string; binary?: boolean }>()
const theme = useTheme()
const HUES = ['primary', 'secondary', 'success', 'info', 'error']

function color(name: string): string {
  return String(theme.current.value.colors[name] ?? '#888')
}

/** A dashed line belongs to the one before it and has its colour. */
const data = computed<ChartData<'line', { x: number; y: number }[]>>(() => {
  let hue = -1
  return {
    datasets: props.lines.map((line) => {
      if (!line.dashed || hue < 0) hue += 1
      const borderColor = color(HUES[hue % HUES.length] ?? 'primary')
      return {
        label: line.name,
        data: line.points,
        borderColor,
        backgroundColor: borderColor,
        borderDash: line.dashed ? [4, 4] : [],
        borderWidth: 1.5,
        pointRadius: line.points.length > 1 ? 0 : 2,
      }
    }),
  }
})

/** What the lines show, for whoever does not see them. */
const summary = computed(() => {
  const told = props.lines.map(({ name, points }) => {
    if (points.length === 0) return t('history.noPoints', { name })
    const last = points[points.length - 1]?.y ?? 0
    return t('history.line', { name, last: props.value(last), most: props.value(Math.max(...points.map(({ y }) => y))) })
  })
  return `${props.title}: ${told.join('; ')}`
})

function clock(x: number): string {
  const style: Intl.DateTimeFormatOptions =
    props.until - props.from > 2 * 86_400_000 ? { weekday: 'short', hour: '2-digit' } : { hour: '2-digit', minute: '2-digit' }
  return new Date(x).toLocaleString(undefined, style)
}

function afterBuildTicks(axis: Scale) {
  axis.ticks = ticks(props.from, props.until).map((value) => ({ value }))
}

/** Bytes are shown in steps of powers of two. */
const step = computed(() => {
  const most = Math.max(...props.lines.flatMap((line) => line.points.map((point) => point.y)), 1)
  return props.binary ? 2 ** Math.ceil(Math.log2(most / 4)) : undefined
})

const options = computed<ChartOptions<'line'>>(() => {
  const dark = theme.current.value.dark
  const ink = dark ? '#ffffffb0' : '#000000a0'
  const grid = { color: dark ? '#ffffff1a' : '#0000001a' }
  return {
    animation: false,
    maintainAspectRatio: false,
    parsing: false,
    interaction: { mode: 'nearest', axis: 'x', intersect: false },
    scales: {
      x: { type: 'linear', min: props.from, max: props.until, grid, ticks: { color: ink, callback: (x) => clock(Number(x)) }, afterBuildTicks },
      y: { beginAtZero: true, grid, ticks: { color: ink, stepSize: step.value, maxTicksLimit: 7, callback: (y) => props.value(Number(y)) } },
    },
    plugins: {
      legend: { labels: { color: ink, boxWidth: 16, boxHeight: 2 } },
      tooltip: {
        callbacks: {
          title: ([item]) => clock(Number(item?.parsed.x ?? 0)),
          label: (item) => `${item.dataset.label}: ${props.value(Number(item.parsed.y))}`,
        },
      },
    },
  }
})
</script>

<template>
  <figure :aria-label="title">
    <figcaption class="text-body-medium font-weight-bold">{{ title }}</figcaption>
    <div class="chart"><LineChart :data="data" :options="options" :aria-label="summary" /></div>
  </figure>
</template>

<style scoped>
.chart {
  height: 190px;
}
figure {
  margin: 0;
  min-width: 0;
}
</style>
