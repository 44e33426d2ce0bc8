import { useMemo } from "react";
import type { Interval, Marker, Measurement } from "../api/client";
import { Chart, type Colours, roomAbove } from "./chart";
import { flow, look, moving, timed, wholeFiles } from "./classes";
import { digits, files, iops, seconds, share, throughput } from "./format";
import { StoreCharts, ZoneMap } from "./stores";

interface Curve {
	title: string;
	unit: string;
	scale: number;
	of: (i: Interval, side: string) => number;
	words: (v: number) => string;
}

const throughputCurve: Curve = {
	title: "Throughput",
	unit: "MB/s",
	scale: 1e6,
	of: (i, side) => flow(i, side).throughputBytesPerSecond,
	words: throughput,
};

const rateCurve: Curve = {
	title: "Rate",
	unit: "IOPS",
	scale: 1,
	of: (i, side) => flow(i, side).rate,
	words: iops,
};

const fileCurve: Curve = {
	title: "Files",
	unit: "files/s",
	scale: 1,
	of: (i, side) => flow(i, side).rate,
	words: files,
};

/** All classes of operation that something was counted of. */
const classesOf = (intervals: Interval[]) => Object.assign({}, ...intervals.map((i) => i.classes));

/** The time axis: the end of each interval, in seconds since the start. */
const at = (i: Interval) => i.startSeconds + i.lengthSeconds;

const timeAxis = (intervals: Interval[]) => ({
	type: "value",
	name: "seconds",
	nameLocation: "middle",
	nameGap: 26,
	min: 0,
	max: intervals.length ? at(intervals[intervals.length - 1]) : 1,
	splitLine: { show: false },
});

type Phase = NonNullable<NonNullable<NonNullable<Measurement["summary"]>["phases"]>["list"]>[number];

/** Shades what is in no summary, the warm-up and the phases before the last, and names the phases. */
function stretches(intervals: Interval[], phases: Phase[], c: Colours) {
	const leading = intervals.filter((i) => i.warmUp);
	const kept = leading.length ? at(leading[leading.length - 1]) : 0;
	const begin = phases.length ? phases[0].startSeconds : kept;
	const named = phases.length > 1 ? phases : [];
	const parts = [
		...(begin > 0 ? [{ name: "warm-up", from: 0, to: begin }] : []),
		...named.map((p) => ({ name: p.kind, from: p.startSeconds, to: p.startSeconds + p.lengthSeconds })),
	];
	if (parts.length === 0) {
		return undefined;
	}
	return {
		silent: true,
		label: { color: c.ink, position: "insideTop", fontSize: 11 },
		data: parts.map(({ name, from, to }, n) => [
			{
				name,
				xAxis: from,
				itemStyle: { color: c.grid, opacity: from < kept - 1e-6 ? (n % 2 ? 0.35 : 0.6) : 0 },
			},
			{ xAxis: to },
		]),
	};
}

function line(side: string, c: Colours) {
	const { colour, symbol, type } = look(side, c);
	return {
		type: "line",
		name: side,
		color: colour,
		symbol,
		symbolSize: 4,
		lineStyle: { width: 1.75, color: colour, type },
	};
}

/** Draws markers as lines with their names. */
function markLines(markers: Marker[], c: Colours) {
	if (markers.length === 0) {
		return undefined;
	}
	return {
		silent: true,
		symbol: "none",
		lineStyle: { color: c.ink, type: "dashed", width: 1 },
		label: { color: c.ink, formatter: "◆ {b}", position: "end", rotate: 0, width: 150, overflow: "truncate" },
		data: markers.map((k) => ({ name: k.name, xAxis: k.atSeconds })),
	};
}

function CurveChart(props: {
	sides: string[];
	intervals: Interval[];
	curve: Curve;
	markers: Marker[];
	phases: Phase[];
}) {
	const { sides, intervals, curve, markers, phases } = props;
	const option = useMemo(
		() => (c: Colours) => {
			const named = stretches(intervals, phases, c);
			const top = Math.max(
				0,
				...sides.flatMap((side) => intervals.map((i) => curve.of(i, side) / curve.scale)),
			);
			return {
				xAxis: timeAxis(intervals),
				yAxis: {
					type: "value",
					name: curve.unit,
					...(named ? roomAbove(top) : { min: 0 }),
					axisLabel: { formatter: (v: number) => compact(v) },
				},
				tooltip: { trigger: "axis", valueFormatter: (v: unknown) => `${digits(Number(v))} ${curve.unit}` },
				series: sides.map((side, n) => ({
					...line(side, c),
					markArea: n === 0 ? named : undefined,
					markLine: n === 0 ? markLines(markers, c) : undefined,
					data: intervals.map((i) => [at(i), curve.of(i, side) / curve.scale]),
				})),
			};
		},
		[sides, intervals, curve, markers, phases],
	);
	const words = sides.map((side) => {
		const values = intervals.filter((i) => !i.warmUp).map((i) => curve.of(i, side));
		return values.length
			? `${side} between ${curve.words(Math.min(...values))} and ${curve.words(Math.max(...values))}`
			: `no ${side} yet`;
	});
	return (
		<Chart
			title={curve.title}
			summary={`${curve.title} over ${intervals.length} intervals: ${words.join("; ") || "nothing yet"}.`}
			table={() => [
				["end of interval (s)", ...sides.map((s) => `${s} (${curve.unit})`)],
				...intervals.map((i) => [at(i), ...sides.map((s) => curve.of(i, s) / curve.scale)]),
			]}
			option={option}
		/>
	);
}

/** Latency with its spread: the median as a line, up to the 99th percentile as a band. */
function LatencyChart({ sides, intervals }: { sides: string[]; intervals: Interval[] }) {
	const option = useMemo(
		() => (c: Colours) => ({
			xAxis: timeAxis(intervals),
			yAxis: { type: "value", name: "ms", min: 0, axisLabel: { formatter: (v: number) => compact(v) } },
			legend: { top: 0, right: 0, textStyle: { color: c.ink }, itemWidth: 22, itemHeight: 8 },
			tooltip: {
				trigger: "axis",
				formatter: (hits: { dataIndex: number }[]) => {
					const i = intervals[hits[0]?.dataIndex];
					return i
						? `${digits(at(i))} s<br/>${sides
								.map(
									(s) =>
										`${s}: p50 ${seconds(flow(i, s).p50Seconds)}, p99 ${seconds(flow(i, s).p99Seconds)}, max ${seconds(flow(i, s).maxSeconds)}`,
								)
								.join("<br/>")}`
						: "";
				},
			},
			series: sides.flatMap((side) => {
				const look = line(side, c);
				const data = (pick: (i: Interval) => number) => intervals.map((i) => [at(i), pick(i) * 1e3]);
				return [
					{ ...look, name: `${side} p50`, data: data((i) => flow(i, side).p50Seconds) },
					{
						...look,
						name: `${side} p99`,
						symbol: "none",
						lineStyle: { ...look.lineStyle, width: 1, opacity: 0.7, type: "dotted" },
						data: data((i) => flow(i, side).p99Seconds),
						areaStyle: { color: look.color, opacity: 0.12 },
					},
				];
			}),
		}),
		[sides, intervals],
	);
	return (
		<Chart
			title={sides.includes(wholeFiles) ? "Time of a file" : "Latency"}
			summary={`Latency over ${intervals.length} intervals, median and 99th percentile, in milliseconds.`}
			table={() => [
				["end of interval (s)", ...sides.flatMap((s) => [`${s} p50 (ms)`, `${s} p99 (ms)`, `${s} max (ms)`])],
				...intervals.map((i) => [
					at(i),
					...sides.flatMap((s) => [
						flow(i, s).p50Seconds * 1e3,
						flow(i, s).p99Seconds * 1e3,
						flow(i, s).maxSeconds * 1e3,
					]),
				]),
			]}
			option={option}
		/>
	);
}

/** Busy share of the busiest device behind the volume. */
const deviceBusy = (i: Interval) => Math.max(0, ...devicesOf(i).map((d) => d.busyShare));

/** The cores and the devices of all hosts that took part. */
const coresOf = (i: Interval) => (i.beside ?? []).flatMap((h) => h.cpuShares ?? []);
const devicesOf = (i: Interval) => (i.beside ?? []).flatMap((h) => h.devices ?? []);

/** What the host did meanwhile: each core, and the device behind the volume. */
function HostChart({ intervals }: { intervals: Interval[] }) {
	const cores = intervals.length > 0 ? coresOf(intervals[0]).length : 0;
	const watched = intervals.find((i) => devicesOf(i).length > 0);
	const device = watched
		? devicesOf(watched)
				.map((d) => d.name)
				.join(", ")
		: "";
	const option = useMemo(
		() => (c: Colours) => ({
			xAxis: timeAxis(intervals),
			yAxis: { type: "value", name: "% busy", min: 0, max: 100 },
			tooltip: { trigger: "axis", valueFormatter: (v: unknown) => `${digits(Number(v))} %` },
			series: [
				{
					type: "line",
					name: "busiest core",
					color: c.baseline,
					symbol: "none",
					data: intervals.map((i) => [at(i), Math.max(0, ...coresOf(i)) * 100]),
				},
				...(device
					? [
							{
								type: "line",
								name: `device ${device}`,
								color: c.ink,
								symbol: "none",
								lineStyle: { type: "dashed", width: 1.5, color: c.ink },
								data: intervals.map((i) => [at(i), deviceBusy(i) * 100]),
							},
						]
					: []),
			],
		}),
		[intervals, device],
	);
	if (cores === 0) {
		return null;
	}
	const last = intervals[intervals.length - 1];
	return (
		<Chart
			title="This host"
			summary={`Busiest core of ${cores} at ${share(Math.max(0, ...coresOf(last)))} in the last interval${device ? `; device ${device} at ${share(deviceBusy(last))}` : ""}.`}
			table={() => [
				[
					"end of interval (s)",
					...Array.from({ length: cores }, (_, n) => `core ${n} (share)`),
					"device busy (share)",
				],
				...intervals.map((i) => [at(i), ...coresOf(i), deviceBusy(i)]),
			]}
			option={option}
		/>
	);
}

/** Shares from inside a simulated array: how busy its parts are, and what its caches answer. */
function InsideChart({ intervals }: { intervals: Interval[] }) {
	const curves = useMemo(() => insideShares(intervals), [intervals]);
	const option = useMemo(
		() => (c: Colours) => ({
			xAxis: timeAxis(intervals),
			yAxis: { type: "value", min: 0, max: 100 },
			tooltip: { trigger: "axis", valueFormatter: (v: unknown) => `${digits(Number(v))} %` },
			series: curves.map((curve, n) => ({
				type: "line",
				name: curve.name,
				color: [c.baseline, c.ink, c.read, c.write][n % 4],
				symbol: ["none", "circle", "triangle", "diamond"][n % 4],
				symbolSize: 5,
				lineStyle: { width: 1.5, type: ["solid", "dashed", "dotted"][n % 3] },
				data: intervals.map((i) => [at(i), curve.of(i) * 100]),
			})),
		}),
		[intervals, curves],
	);
	if (curves.length === 0) {
		return null;
	}
	return (
		<Chart
			title="Inside the array, %"
			summary={`Shares over ${intervals.length} intervals: ${curves.map((c) => `${c.name} ${share(c.of(intervals[intervals.length - 1]))} at the end`).join("; ")}.`}
			table={() => [
				["end of interval (s)", ...curves.map((c) => `${c.name} (share)`)],
				...intervals.map((i) => [at(i), ...curves.map((c) => c.of(i))]),
			]}
			option={option}
		/>
	);
}

/** The busiest member and link stand for all of them; every cache stands for itself. */
function insideShares(intervals: Interval[]): { name: string; of: (i: Interval) => number }[] {
	const names = (intervals[0]?.inside ?? []).filter((c) => c.unit === "share").map((c) => c.name);
	const most = (kind: string) => (i: Interval) =>
		Math.max(
			0,
			...(i.inside ?? [])
				.filter((c) => c.name.startsWith(kind) && c.name.endsWith(" busy"))
				.map((c) => c.value),
		);
	return [
		...["member", "controller", "link"]
			.filter((kind) => names.some((n) => n.startsWith(kind)))
			.map((kind) => ({
				name: kind === "controller" ? "controller busy" : `busiest ${kind}`,
				of: most(`${kind} `),
			})),
		...names
			.filter((n) => n.endsWith("hit rate"))
			.map((n) => ({ name: n, of: (i: Interval) => i.inside?.find((c) => c.name === n)?.value ?? 0 })),
	];
}

function compact(v: number): string {
	if (v >= 1e6) {
		return `${v / 1e6} M`;
	}
	return v >= 1e4 ? `${v / 1e3} k` : String(v);
}

const none: Phase[] = [];

/** The series of a measurement: throughput, rate, latency, and the host. */
export function SeriesCharts(props: { intervals: Interval[]; markers: Marker[]; m: Measurement }) {
	const { intervals, markers, m } = props;
	const [sides, times] = useMemo(() => {
		const all = classesOf(intervals);
		return [moving(all), timed(m.load, all)];
	}, [intervals, m.load]);
	const rated = times.includes(wholeFiles) ? fileCurve : rateCurve;
	const phases = m.summary?.phases?.list ?? none;
	return (
		<div className="grid gap-6 lg:grid-cols-2">
			{m.load.stores && <StoreCharts intervals={intervals} />}
			{sides.length > 0 && (
				<CurveChart
					sides={sides}
					intervals={intervals}
					curve={throughputCurve}
					markers={markers}
					phases={phases}
				/>
			)}
			<CurveChart sides={times} intervals={intervals} curve={rated} markers={markers} phases={phases} />
			<LatencyChart sides={times} intervals={intervals} />
			<HostChart intervals={intervals} />
			<InsideChart intervals={intervals} />
			<ZoneMap intervals={intervals} />
		</div>
	);
}
