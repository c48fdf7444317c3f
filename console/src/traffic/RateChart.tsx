import { useQuery } from '@tanstack/react-query';
import { useEffect, useRef } from 'react';
import uPlot from 'uplot';
import 'uplot/dist/uPlot.min.css';
import { seriesQuery } from '../api/queries';
import { clock, duration } from '../format';
import { useTheme } from '../state/theme';
import { Choice } from '../shared/Choice';
import { setParams, usePlace } from '../state/usePlace';
import { columnsOf, describe } from './series';

const SPANS = [
  ['15m', 'Last 15 minutes'],
  ['1h', 'Last hour'],
] as const;

/** Pixels of a chart. */
const HEIGHT = 150;

/** Requests and times of a route, or of all, over time. */
export function RateChart({ route }: { route: string | undefined }) {
  const { params } = usePlace();
  const span = params.span === '1h' ? '1h' : '15m';
  const [seconds, step] = span === '1h' ? [3600, 30] : [900, 10];
  const { data } = useQuery(seriesQuery(route, seconds, step));
  const series = data ?? { seconds: step, points: [] };
  const [times, perSecond, errors, p50, p95, p99] = columnsOf(series);
  return (
    <section aria-label={`Rates of ${route ?? 'all routes'}`}>
      <div className="flex flex-wrap items-center gap-3">
        <h2 className="text-[15px] font-semibold">{route ?? 'All routes'}</h2>
        <Choice
          label="Time"
          value={span}
          options={SPANS}
          onChoose={(next) => setParams({ span: next === '15m' ? undefined : next })}
        />
        <p className="text-[13px] text-muted">{describe(series)}</p>
      </div>
      <div className="mt-2 grid grid-cols-1 gap-4 lg:grid-cols-2">
        <Chart
          title="Requests per second"
          lines={[
            ['requests', '--teal', perSecond],
            ['errors', '--vermilion', errors],
          ]}
          times={times}
          least={1}
          format={(value) => (value >= 10 ? value.toFixed(0) : value.toFixed(1))}
        />
        <Chart
          title="Time to the last byte"
          lines={[
            ['p50', '--teal', p50],
            ['p95', '--amber', p95],
            ['p99', '--vermilion', p99],
          ]}
          times={times}
          least={1000}
          format={(value) => duration(Math.round(value))}
        />
      </div>
    </section>
  );
}

/** A moment in seconds as the time of day. */
function timeOf(seconds: number): string {
  return clock(new Date(seconds * 1000).toISOString());
}

interface ChartProps {
  title: string;
  /** The name, the colour and the values of each line. */
  lines: readonly (readonly [string, string, readonly (number | null)[]])[];
  times: readonly number[];
  format: (value: number) => string;
  /** What the upper end of the scale is at least. */
  least: number;
}

function Chart({ title, lines, times, format, least }: ChartProps) {
  const box = useRef<HTMLDivElement>(null);
  const plot = useRef<uPlot>(null);
  const theme = useTheme();
  const names = lines.map(([name, colour]) => `${name} ${colour}`).join();
  useEffect(() => {
    const element = box.current;
    if (element === null) return;
    const style = getComputedStyle(element);
    const colourOf = (name: string) => style.getPropertyValue(name);
    const axis = {
      stroke: colourOf('--muted'),
      grid: { stroke: colourOf('--rule'), width: 1 },
      ticks: { stroke: colourOf('--rule'), width: 1 },
      font: '12px "Source Sans 3 Variable"',
    };
    const made = new uPlot(
      {
        width: element.clientWidth,
        height: HEIGHT,
        padding: [8, 8, 0, 0],
        cursor: { points: { size: 6 } },
        scales: { y: { range: (_, __, most) => [0, Math.max(most * 1.1, least)] } },
        axes: [
          { ...axis, values: (_, splits) => splits.map((at) => timeOf(at).slice(0, 5)) },
          { ...axis, size: 64, values: (_, splits) => splits.map(format) },
        ],
        series: [
          { label: 'at', value: (_: uPlot, at: number | null) => (at === null ? '–' : timeOf(at)) },
          ...lines.map(([label, colour], at) => ({
            label,
            stroke: colourOf(colour),
            width: 1.75,
            // The lines differ in their dashes, too.
            dash: at === 0 ? undefined : at === 1 ? [6, 3] : [2, 3],
            value: (_: uPlot, value: number | null) => (value === null ? '–' : format(value)),
            points: { show: false },
          })),
        ],
      },
      [[...times], ...lines.map(([, , values]) => [...values])] as uPlot.AlignedData,
      element,
    );
    plot.current = made;
    const resized = new ResizeObserver(() =>
      made.setSize({ width: element.clientWidth, height: HEIGHT }),
    );
    resized.observe(element);
    return () => {
      resized.disconnect();
      made.destroy();
      plot.current = null;
    };
    // The values are set below, without drawing everything anew.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [names, theme]);
  useEffect(() => {
    plot.current?.setData([
      [...times],
      ...lines.map(([, , values]) => [...values]),
    ] as uPlot.AlignedData);
  });
  return (
    <figure>
      <figcaption className="text-[13px] text-muted">{title}</figcaption>
      <div ref={box} className="chart min-h-[190px]" role="img" aria-label={title} />
    </figure>
  );
}
