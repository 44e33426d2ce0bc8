import { useMemo } from "react";
import type { Interval } from "../api/client";
import { Chart, type Colours, sideLine } from "./chart";
import { flow } from "./classes";
import { digits, requests } from "./format";

const names = ["puts", "gets", "scans"];

const secondsAxis = {
	type: "value",
	name: "seconds",
	nameLocation: "middle",
	nameGap: 26,
	min: 0,
	max: "dataMax",
	axisLabel: { formatter: (v: number) => digits(v) },
};

const at = (i: Interval) => i.startSeconds + i.lengthSeconds;

/** How many intervals before a moment the ratio of what was written there is over. */
const window = 10;

/** Bytes written to the storage for each that was put, over the intervals before each. */
function written(intervals: Interval[]): [number, number][] {
	const points: [number, number][] = [];
	let put = 0;
	let wrote = 0;
	for (const [n, i] of intervals.entries()) {
		put += i.groups?.[0]?.bytes ?? 0;
		wrote += flow(i, "writes").bytes;
		const left = intervals[n - window];
		if (left) {
			put -= left.groups?.[0]?.bytes ?? 0;
			wrote -= flow(left, "writes").bytes;
		}
		if (put > 0) {
			points.push([at(i), wrote / put]);
		}
	}
	return points;
}

/** What stores did over time: requests, and what was written for what was put. */
export function StoreCharts({ intervals }: { intervals: Interval[] }) {
	const asked = useMemo(
		() =>
			names
				.map((name, n) => ({ name, n, of: (i: Interval) => i.groups?.[n]?.rate ?? 0 }))
				.filter((g) => intervals.some((i) => g.of(i) > 0)),
		[intervals],
	);
	const ratio = useMemo(() => written(intervals), [intervals]);
	const rates = useMemo(
		() => (c: Colours) => ({
			xAxis: secondsAxis,
			yAxis: { type: "value", name: "requests/s", min: 0 },
			tooltip: { trigger: "axis", valueFormatter: (v: unknown) => requests(Number(v)) },
			series: asked.map((g) => ({
				type: "line",
				name: g.name,
				...sideLine(g.n, c),
				data: intervals.map((i) => [at(i), g.of(i)]),
			})),
		}),
		[asked, intervals],
	);
	const ratios = useMemo(
		() => (c: Colours) => ({
			xAxis: secondsAxis,
			yAxis: { type: "value", name: "times", min: 0 },
			tooltip: { trigger: "axis", valueFormatter: (v: unknown) => `${digits(Number(v))} times` },
			series: [{ type: "line", name: "write amplification", ...sideLine(0, c), data: ratio }],
		}),
		[ratio],
	);
	const last = ratio[ratio.length - 1];
	return (
		<>
			<Chart
				title="Requests"
				summary={`Requests over ${intervals.length} intervals: ${asked.map((g) => g.name).join(", ")}.`}
				table={() => [
					["end of interval (s)", ...asked.map((g) => `${g.name} a second`)],
					...intervals.map((i) => [at(i), ...asked.map((g) => g.of(i))]),
				]}
				option={rates}
			/>
			{last && (
				<Chart
					title="Write amplification"
					summary={`Bytes written to the storage per byte put, over ${window} intervals: ${digits(last[1])} at the end.`}
					table={() => [["end of interval (s)", "written per byte put"], ...ratio]}
					option={ratios}
				/>
			)}
		</>
	);
}

/** How full the zones of the media were, over time: darker for more. */
export function ZoneMap({ intervals }: { intervals: Interval[] }) {
	const shown = useMemo(() => intervals.filter((i) => i.zones), [intervals]);
	const most = Math.max(0, ...shown.map((i) => i.zones?.length ?? 0));
	const cells = useMemo(
		() => shown.flatMap((i, n) => [...(i.zones ?? "")].map((digit, zone) => [n, zone, Number(digit)])),
		[shown],
	);
	const option = useMemo(
		() => (c: Colours) => ({
			grid: { left: 70, right: 14, top: 12, bottom: 42 },
			legend: { show: false },
			xAxis: {
				type: "category",
				data: shown.map((i) => digits(at(i))),
				name: "seconds",
				nameLocation: "middle",
				nameGap: 26,
				axisLabel: { hideOverlap: true },
				splitLine: { show: false },
			},
			yAxis: {
				type: "category",
				data: Array.from({ length: most }, (_, n) => String(n + 1)),
				name: "zones",
				axisLabel: { interval: Math.ceil(most / 8) - 1 },
				splitLine: { show: false },
			},
			visualMap: { show: false, min: 0, max: 9, inRange: { color: [c.paper, c.grid, c.baseline, c.ink] } },
			tooltip: {
				trigger: "item",
				formatter: (hit: { value: [number, number, number] }) =>
					`zones ${hit.value[1] + 1} at ${digits(at(shown[hit.value[0]]))} s: ${["empty", ...Array(8).fill("in part"), "full"][hit.value[2]]}`,
			},
			series: [{ type: "heatmap", name: "how full", data: cells }],
		}),
		[shown, most, cells],
	);
	if (cells.length === 0) {
		return null;
	}
	const last = shown[shown.length - 1];
	const full = [...(last.zones ?? "")].filter((z) => z === "9").length;
	return (
		<Chart
			title="Zones"
			height={240}
			summary={`How full zones were at ${shown.length} moments, in ${most} cells. At the end ${full} cells are full.`}
			table={() => [
				["end of interval (s)", "cell", "how full (0 empty, 9 full)"],
				...cells.map(([n, zone, digit]) => [at(shown[n]), zone + 1, digit]),
			]}
			option={option}
		/>
	);
}
