import { useMemo } from "react";
import type { Distribution, Measurement } from "../api/client";
import { Chart, type Colours } from "./chart";
import { look, timed } from "./classes";
import { digits, seconds } from "./format";

/** How the latencies of a measurement are spread, on a logarithmic axis. */
export function DistributionChart({ m, latency }: { m: Measurement; latency: Distribution }) {
	const sides = useMemo(
		() =>
			timed(m.load, latency.classes)
				.map((name) => ({ name, bars: latency.classes[name].bars ?? [] }))
				.filter((side) => side.bars.length > 0),
		[latency, m.load],
	);
	const option = useMemo(
		() => (c: Colours) => ({
			xAxis: {
				type: "log",
				name: "latency, ms",
				nameLocation: "middle",
				nameGap: 26,
				axisLabel: { formatter: (v: number) => digits(v) },
				splitLine: { show: false },
				min: lowest(sides) * 1e3,
				max: highest(sides) * 1e3,
			},
			yAxis: { type: "value", name: "% of operations", min: 0 },
			tooltip: {
				trigger: "axis",
				formatter: (hits: { seriesName: string; value: [number, number, number] }[]) =>
					hits
						.map((h) => `${h.seriesName}: ${digits(h.value[1])} % within ${seconds(h.value[2])}`)
						.join("<br/>"),
			},
			series: sides.map((side) => {
				const total = side.bars.reduce((sum, b) => sum + b.count, 0);
				const { colour, type } = look(side.name, c);
				return {
					type: "line",
					step: "middle",
					name: side.name,
					color: colour,
					symbol: "none",
					lineStyle: { width: 1.5, color: colour, type },
					areaStyle: { color: colour, opacity: 0.18 },
					data: padded(side.bars).map((b) => [
						Math.sqrt(b.fromSeconds * b.toSeconds) * 1e3,
						(b.count / total) * 100,
						b.toSeconds,
					]),
				};
			}),
		}),
		[sides],
	);
	if (sides.length === 0) {
		return <p>No latencies were recorded.</p>;
	}
	const s = m.summary;
	return (
		<Chart
			title="Latency distribution"
			height={240}
			summary={`Distribution of latencies. ${s ? `All operations: median ${seconds(s.total.latency.p50Seconds)}, 99th percentile ${seconds(s.total.latency.p99Seconds)}, longest ${seconds(s.total.latency.maxSeconds)}.` : ""}`}
			table={() => [
				["kind", "from (s)", "to (s)", "operations"],
				...sides.flatMap((side) => side.bars.map((b) => [side.name, b.fromSeconds, b.toSeconds, b.count])),
			]}
			option={option}
		/>
	);
}

type Bars = { fromSeconds: number; toSeconds: number; count: number }[];

const lowest = (sides: { bars: Bars }[]) => Math.min(...sides.map((s) => s.bars[0].fromSeconds)) / 1.1;
const highest = (sides: { bars: Bars }[]) =>
	Math.max(...sides.map((s) => s.bars[s.bars.length - 1].toSeconds)) * 1.1;

/** Adds empty bars beside gaps, so that the line falls to zero between modes. */
function padded(bars: Bars): Bars {
	const out: Bars = [];
	const ratio = bars[0].toSeconds / bars[0].fromSeconds;
	for (const [n, b] of bars.entries()) {
		const before = bars[n - 1];
		if (!before || b.fromSeconds > before.toSeconds * 1.001) {
			if (before) {
				out.push({ fromSeconds: before.toSeconds, toSeconds: before.toSeconds * ratio, count: 0 });
			}
			out.push({ fromSeconds: b.fromSeconds / ratio, toSeconds: b.fromSeconds, count: 0 });
		}
		out.push(b);
	}
	const last = bars[bars.length - 1];
	out.push({ fromSeconds: last.toSeconds, toSeconds: last.toSeconds * ratio, count: 0 });
	return out;
}
