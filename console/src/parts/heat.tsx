import { useMemo } from "react";
import type { Interval } from "../api/client";
import { Chart, type Colours } from "./chart";
import { digits, seconds } from "./format";

/** The lower end of a tenth of a decade, in seconds. */
const from = (tenth: number) => 10 ** (tenth / 10 - 9);

/** Where the latencies of each interval lie: time to the right, latency upwards, darker for more. */
export function HeatMap({ title, intervals }: { title: string; intervals: Interval[] }) {
	const shown = useMemo(() => intervals.filter((i) => (i.spread ?? []).length > 0), [intervals]);
	const tenths = useMemo(() => {
		const all = shown.flatMap((i) => (i.spread ?? []).map((c) => c.tenth));
		const [low, high] = [Math.min(...all), Math.max(...all)];
		return all.length > 0 ? Array.from({ length: high - low + 1 }, (_, n) => low + n) : [];
	}, [shown]);
	const cells = useMemo(
		() =>
			shown.flatMap((i, n) => {
				const sum = (i.spread ?? []).reduce((s, c) => s + c.count, 0);
				return (i.spread ?? []).map((c) => [n, c.tenth - tenths[0], (c.count / sum) * 100]);
			}),
		[shown, tenths],
	);
	const option = useMemo(
		() => (c: Colours) => ({
			grid: { left: 70, right: 14, top: 12, bottom: 42 },
			legend: { show: false },
			xAxis: {
				type: "category",
				data: shown.map((i) => digits(i.startSeconds + i.lengthSeconds)),
				name: "seconds",
				nameLocation: "middle",
				nameGap: 26,
				axisLabel: { hideOverlap: true },
				splitLine: { show: false },
			},
			yAxis: {
				type: "category",
				data: tenths.map((t) => seconds(from(t))),
				axisLabel: { interval: Math.ceil(tenths.length / 8) - 1 },
				splitLine: { show: false },
			},
			visualMap: {
				show: false,
				min: 0,
				max: Math.max(10, ...cells.map((cell) => cell[2])),
				inRange: { color: [c.paper, c.grid, c.baseline, c.ink] },
			},
			tooltip: {
				trigger: "item",
				formatter: (hit: { value: [number, number, number] }) =>
					`${digits(hit.value[2])} % of operations from ${seconds(from(tenths[hit.value[1]]))} to ${seconds(from(tenths[hit.value[1]] + 1))}`,
			},
			series: [{ type: "heatmap", name: "share of operations", data: cells }],
		}),
		[shown, tenths, cells],
	);
	if (cells.length === 0) {
		return null;
	}
	return (
		<Chart
			title={title}
			height={220}
			summary={`Latencies of ${shown.length} intervals, from ${seconds(from(tenths[0]))} to ${seconds(from(tenths[tenths.length - 1] + 1))}.`}
			table={() => [
				["end of interval (s)", "from (s)", "to (s)", "operations"],
				...shown.flatMap((i) =>
					(i.spread ?? []).map((c) => [
						i.startSeconds + i.lengthSeconds,
						from(c.tenth),
						from(c.tenth + 1),
						c.count,
					]),
				),
			]}
			option={option}
		/>
	);
}
