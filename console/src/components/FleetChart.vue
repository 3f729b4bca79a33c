<script setup lang="ts">
// A chart in the ink of the house. Patterns tell series apart beside colour.
import { BarChart, LineChart } from 'echarts/charts'
import {
  AriaComponent,
  GridComponent,
  LegendComponent,
  LegendScrollComponent,
  TooltipComponent,
} from 'echarts/components'
import { use } from 'echarts/core'
import { CanvasRenderer } from 'echarts/renderers'
import { computed, ref } from 'vue'
import VChart from 'vue-echarts'

const props = defineProps<{
  kind: 'bar' | 'line'
  /** The series, from the bottom of the stack upward. */
  series: { name: string; values: number[] }[]
  /** What stands along the axis: categories of bars, or moments (RFC 3339). */
  along: string[]
  label: string
}>()
const emit = defineEmits<{ pick: [name: string, along: string] }>()

use([
  BarChart,
  LineChart,
  AriaComponent,
  GridComponent,
  LegendComponent,
  LegendScrollComponent,
  TooltipComponent,
  CanvasRenderer,
])

/** Inks from the accent (lowest) over grey to green (highest). */
function inks(n: number): string[] {
  const css = getComputedStyle(document.documentElement)
  const [metal, soft, good] = ['--metal', '--ink-soft', '--good'].map((v) => css.getPropertyValue(v).trim())
  const probe = document.createElement('span')
  document.body.append(probe)
  const list = Array.from({ length: n }, (_, i) => {
    const at = n < 2 ? 1 : i / (n - 1)
    probe.style.color =
      at <= 0.5
        ? `color-mix(in srgb, ${soft} ${at * 200}%, ${metal})`
        : `color-mix(in srgb, ${good} ${(at - 0.5) * 200}%, ${soft})`
    return srgb(getComputedStyle(probe).color)
  })
  probe.remove()
  return list
}

/** "color(srgb 0.1 0.2 0.3)" as the canvas of the chart takes it. */
function srgb(color: string): string {
  const m = /color\(srgb ([\d.]+) ([\d.]+) ([\d.]+)/.exec(color)
  return m
    ? `rgb(${m
        .slice(1, 4)
        .map((x) => Math.round(Number(x) * 255))
        .join(',')})`
    : color
}

const option = computed(() => {
  const css = getComputedStyle(document.documentElement)
  const ink = css.getPropertyValue('--ink').trim()
  const rule = css.getPropertyValue('--rule').trim()
  const font = { fontFamily: css.getPropertyValue('--sans').trim(), color: ink, fontSize: 13 }
  const bars = props.kind === 'bar'
  const category = {
    type: 'category' as const,
    data: props.along,
    axisLine: { lineStyle: { color: ink } },
    axisTick: { show: false },
    axisLabel: font,
    inverse: bars,
  }
  const time = {
    type: 'time' as const,
    axisLine: { lineStyle: { color: ink } },
    axisLabel: { ...font, hideOverlap: true },
    splitLine: { show: false },
  }
  const value = { type: 'value' as const, minInterval: 1, splitLine: { lineStyle: { color: rule } }, axisLabel: font }
  const colors = inks(props.series.length)
  return {
    color: colors,
    textStyle: font,
    animation: false,
    aria: { enabled: true, decal: { show: true, decals: decals(props.series.length) } },
    grid: { left: 8, right: 16, top: 34, bottom: 4, containLabel: true },
    legend: { type: 'scroll' as const, top: 0, left: 0, itemGap: 18, itemWidth: 18, textStyle: font, icon: 'rect' },
    tooltip: {
      trigger: bars ? ('item' as const) : ('axis' as const),
      renderMode: 'richText' as const,
      confine: true,
      textStyle: { ...font, color: ink },
      backgroundColor: css.getPropertyValue('--sheet').trim(),
      borderColor: rule,
    },
    xAxis: bars ? value : time,
    yAxis: bars ? category : value,
    series: props.series.map((s) => ({
      name: s.name,
      type: props.kind,
      stack: 'all',
      barMaxWidth: 22,
      ...(bars ? {} : { areaStyle: { opacity: 1 }, lineStyle: { width: 1 }, symbol: 'none', step: 'end' as const }),
      data: bars ? s.values : s.values.map((v, i) => [props.along[i]!, v]),
    })),
  }
})

/** Where somebody stands who goes through the chart by keyboard; null for nowhere. */
const at = ref<{ series: number; along: number } | null>(null)
const chart = ref<InstanceType<typeof VChart>>()
const told = computed(() => {
  if (!at.value) return ''
  const s = props.series[at.value.series]!
  return `${s.name}, ${props.along[at.value.along]}: ${s.values[at.value.along] ?? 0}`
})

/** The arrows go along the axis and through the series; Enter picks, as a click does. */
function key(e: KeyboardEvent) {
  const bars = props.kind === 'bar'
  const steps: Record<string, [number, number]> = {
    [bars ? 'ArrowDown' : 'ArrowRight']: [0, 1],
    [bars ? 'ArrowUp' : 'ArrowLeft']: [0, -1],
    [bars ? 'ArrowRight' : 'ArrowUp']: [1, 0],
    [bars ? 'ArrowLeft' : 'ArrowDown']: [-1, 0],
  }
  const step = steps[e.key]
  const clamp = (n: number, most: number) => Math.min(Math.max(n, 0), most)
  if (step) {
    at.value = at.value
      ? {
          series: clamp(at.value.series + step[0], props.series.length - 1),
          along: clamp(at.value.along + step[1], props.along.length - 1),
        }
      : { series: 0, along: bars ? 0 : props.along.length - 1 }
    chart.value?.dispatchAction({ type: 'showTip', seriesIndex: at.value.series, dataIndex: at.value.along })
  } else if (e.key === 'Enter' && at.value) {
    emit('pick', props.series[at.value.series]!.name, props.along[at.value.along]!)
  } else if (e.key === 'Escape' && at.value) {
    leave()
  } else {
    return
  }
  e.preventDefault()
}
function leave() {
  at.value = null
  chart.value?.dispatchAction({ type: 'hideTip' })
}

/** Hatching for the lower half of the ladder, so that it is told from the upper without colour. */
function decals(n: number) {
  const line = 'rgba(255,255,255,0.45)'
  return Array.from({ length: n }, (_, i) => {
    if (i === n - 1) return { symbol: 'none' }
    return { color: line, dashArrayX: [1, 0], dashArrayY: [2, 3 + 2 * i], rotation: ((i % 2 ? -1 : 1) * Math.PI) / 4 }
  })
}
</script>

<template>
  <figure>
    <figcaption>{{ label }}</figcaption>
    <div
      class="frame"
      tabindex="0"
      role="group"
      :aria-label="`${label}: a chart; the arrow keys go through it`"
      @keydown="key"
      @blur="leave"
    >
      <VChart
        ref="chart"
        :option="option"
        autoresize
        class="chart"
        @click="(e: any) => $emit('pick', e.seriesName, String(e.name))"
      />
    </div>
    <p class="told" aria-live="polite">{{ told }}</p>
  </figure>
</template>

<style scoped>
figure {
  margin: 0;
}
figcaption {
  font-weight: 600;
  margin-bottom: 4px;
}
.chart {
  height: 250px;
}
.frame:focus-visible {
  outline: 2px solid var(--metal);
  outline-offset: 4px;
}
.told {
  position: absolute;
  width: 1px;
  height: 1px;
  overflow: hidden;
  clip-path: inset(50%);
  margin: 0;
}
</style>
