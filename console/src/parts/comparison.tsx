import { useQueries } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { api, type Candidate, type Compared, type Interval, type Match, type Values } from "../api/client";
import { Chart, type Colours, intervalBars, intervalNote, sideLine } from "./chart";
import { moved, moving } from "./classes";
import { bytes, digits, files, iops, requests, seconds, share, throughput } from "./format";
import { HeatMap } from "./heat";
import { Verdict } from "./verdict";

/** A value of a figure in the unit that suits it. */
export function show(unit: string, v: number): string {
	const words: Record<string, (v: number) => string> = {
		"bytes per second": throughput,
		"per second": iops,
		"files per second": files,
		"requests per second": requests,
		times: (v) => `${digits(v)} times`,
		bytes,
		share,
	};
	return (words[unit] ?? seconds)(v);
}

/** Gains and losses as bars from the baseline, with the interval of each ratio. */
export function GainsChart(props: { compared: Compared; candidate: Candidate; number: number }) {
	const { compared, candidate, number } = props;
	const rows = useMemo(
		() =>
			(candidate.parts ?? [])
				.filter((p) => p.gain > 0)
				.map((p) => {
					const match = compared.result.points?.[p.point];
					const outcome = match?.rows?.find((r) => r.figure === p.figure)?.candidates?.[number];
					const lower = compared.figures?.find((f) => f.key === p.figure)?.lower ?? false;
					const [low, high] = [outcome?.low ?? p.gain, outcome?.high ?? p.gain];
					return {
						...p,
						low: outcome?.low ? (lower ? 1 / high : low) : p.gain,
						high: outcome?.low ? (lower ? 1 / low : high) : p.gain,
					};
				})
				.reverse(),
		[compared, candidate, number],
	);
	const option = useMemo(
		() => (c: Colours) => ({
			grid: { left: 150, right: 24, top: 8, bottom: 44 },
			legend: { show: false },
			xAxis: {
				type: "log",
				name: "times the baseline (right is better)",
				nameLocation: "middle",
				nameGap: 26,
				axisLabel: { formatter: (v: number) => `× ${digits(v)}` },
				min: Math.min(0.5, ...rows.map((r) => r.low)),
				max: Math.max(2, ...rows.map((r) => r.high)),
			},
			yAxis: {
				type: "category",
				data: rows.map((r) => r.title),
				axisLabel: { width: 138, overflow: "break", lineHeight: 13, interval: 0, hideOverlap: false },
				splitLine: { show: false },
			},
			tooltip: {
				trigger: "item",
				formatter: (hit: { dataIndex: number }) => {
					const r = rows[hit.dataIndex];
					return r
						? `${r.title}: ${r.words}<br/>× ${digits(r.low)} to × ${digits(r.high)}, ${r.verdict}`
						: "";
				},
			},
			series: [
				{
					type: "custom",
					clip: true,
					name: "gain",
					// biome-ignore lint/suspicious/noExplicitAny: the drawing library's own shape
					renderItem: (_: unknown, drawn: any) => {
						const r = rows[drawn.value(0)];
						const y = drawn.coord([1, drawn.value(0)])[1];
						const x = (v: number) => drawn.coord([v, drawn.value(0)])[0];
						const colour = r.verdict === "better" ? c.read : r.verdict === "worse" ? c.write : c.baseline;
						const whisker = (v: number) => ({
							type: "line",
							shape: { x1: x(v), x2: x(v), y1: y - 5, y2: y + 5 },
							style: { stroke: c.ink, lineWidth: 1.2 },
						});
						return {
							type: "group",
							children: [
								{
									type: "rect",
									shape: {
										x: Math.min(x(1), x(r.gain)),
										y: y - 7,
										width: Math.max(Math.abs(x(r.gain) - x(1)), 2),
										height: 14,
									},
									style: {
										fill: colour,
										opacity: r.verdict === "better" || r.verdict === "worse" ? 0.85 : 0.4,
									},
								},
								{
									type: "line",
									shape: { x1: x(r.low), x2: x(r.high), y1: y, y2: y },
									style: { stroke: c.ink, lineWidth: 1.2 },
								},
								whisker(r.low),
								whisker(r.high),
							],
						};
					},
					data: rows.map((r, n) => [n, r.gain]),
					encode: { x: 1, y: 0 },
					markLine: {
						silent: true,
						symbol: "none",
						label: { show: false },
						lineStyle: { color: c.ink, type: "solid", width: 1 },
						data: [{ xAxis: 1 }],
					},
				},
			],
		}),
		[rows],
	);
	if (rows.length === 0) {
		return <p>No load was measured on both sides.</p>;
	}
	return (
		<Chart
			title={`Gains of ${candidate.name}`}
			height={
				70 + rows.length * Math.max(30, 6 + 13 * Math.max(...rows.map((r) => Math.ceil(r.title.length / 20))))
			}
			summary={candidate.words}
			table={() => [
				["stage", "gain", "low", "high", "verdict"],
				...rows.map((r) => [r.title, r.gain, r.low, r.high, r.verdict]),
			]}
			option={option}
		/>
	);
}

/** One point: all its figures on all sides, its series over each other, its latency beyond the mean. */
export function PointView(props: { compared: Compared; match: Match; candidate: number }) {
	const { compared, match, candidate } = props;
	const [repeat, setRepeat] = useState(0);
	const names = [compared.result.baseline.name, ...(compared.result.candidates ?? []).map((k) => k.name)];
	const ids = (match.measurements ?? []).map((of) => of?.[Math.min(repeat, of.length - 1)]);
	const most = Math.max(1, ...(match.measurements ?? []).map((of) => of?.length ?? 0));
	return (
		<section aria-label={match.title} className="mt-8">
			<div className="flex flex-wrap items-baseline gap-x-4">
				<h2 className="text-lg">{match.title}</h2>
				<span className="text-sm opacity-80">
					{match.load}
					{match.means && `. By other means: ${match.means}`}
				</span>
			</div>
			<RowsTable compared={compared} match={match} candidate={candidate} />
			{(match.cautions ?? []).map((c) => (
				<p key={c.words} className="mt-1 text-sm text-accent">
					{c.words}
				</p>
			))}
			<div className="mt-6 mb-2 flex flex-wrap items-center gap-4">
				<h3 className="font-medium">Over each other</h3>
				{most > 1 && (
					<label className="flex items-center gap-2 text-sm">
						repeat
						<select
							className="select select-sm w-20"
							value={repeat}
							onChange={(e) => setRepeat(Number(e.target.value))}
						>
							{Array.from({ length: most }, (_, n) => (
								// biome-ignore lint/suspicious/noArrayIndexKey: repeats are their numbers
								<option key={n} value={n}>
									{n + 1}
								</option>
							))}
						</select>
					</label>
				)}
			</div>
			<Overlays names={names} ids={ids} match={match} />
		</section>
	);
}

function RowsTable(props: { compared: Compared; match: Match; candidate: number }) {
	const { compared, match, candidate } = props;
	const figure = (key: string) => compared.figures?.find((f) => f.key === key);
	const rows = (match.rows ?? []).flatMap((r) =>
		match.cold && r.figure === match.cold.figure ? [r, match.cold] : [r],
	);
	const value = (unit: string, v: Values) =>
		(v.values ?? []).length === 0 ? (
			<span className="opacity-80">{v.reason}</span>
		) : (
			<>
				{show(unit, v.taken.mean)}
				{v.unreliable && (
					<abbr className="ml-1 text-error no-underline" title={v.unreliable}>
						unreliable
					</abbr>
				)}
				{v.remark && (
					<abbr className="ml-1 no-underline" title={v.remark}>
						{match.cold ? "warm" : "note"}
					</abbr>
				)}
				<br />
				<span className="text-xs opacity-80">
					{v.taken.known
						? `${show(unit, Math.max(v.taken.low ?? 0, 0))} to ${show(unit, v.taken.high ?? 0)}, ${v.values?.length} repeats`
						: "one repeat"}
				</span>
			</>
		);
	return (
		<div className="mt-2 overflow-x-auto">
			<table className="table table-sm">
				<thead>
					<tr>
						<th>Figure</th>
						<th className="figure">{compared.result.baseline.name}</th>
						<th className="figure">{compared.result.candidates?.[candidate]?.name}</th>
						<th className="figure">Ratio</th>
						<th>Verdict</th>
					</tr>
				</thead>
				<tbody>
					{rows
						.filter(
							(r) =>
								(r.baseline.values ?? []).length > 0 || (r.candidates?.[candidate]?.values ?? []).length > 0,
						)
						.map((r) => {
							const f = figure(r.figure);
							const o = r.candidates?.[candidate];
							return (
								<tr key={r.figure + (r === match.cold ? " cold" : "")}>
									<th scope="row">
										{f?.label}
										{r === match.cold && ", first pass alone"}
									</th>
									<td className="figure">{value(f?.unit ?? "", r.baseline)}</td>
									<td className="figure">{o && value(f?.unit ?? "", o)}</td>
									<td className="figure">
										{o?.value ? digits(o.value) : ""}
										{o?.low ? (
											<>
												<br />
												<span className="text-xs opacity-80">
													{digits(o.low)} to {digits(o.high ?? 0)}
												</span>
											</>
										) : null}
									</td>
									<td>{o && <Verdict word={o.verdict} />}</td>
								</tr>
							);
						})}
				</tbody>
			</table>
		</div>
	);
}

interface SideSeries {
	name: string;
	side: number;
	intervals: Interval[];
}

/** Series, latencies and heat maps of one measurement a side. */
function Overlays(props: { names: string[]; ids: (number | undefined)[]; match: Match }) {
	const { names, ids, match } = props;
	const [align, setAlign] = useState("start");
	const results = useQueries({
		queries: ids.map((id) => ({
			queryKey: ["series", id],
			queryFn: () => api.series(id ?? 0),
			enabled: id !== undefined,
		})),
	});
	const markers = useMarkers(ids);
	const sides: SideSeries[] = results.flatMap((r, side) =>
		r.data ? [{ name: names[side], side, intervals: r.data.intervals ?? [] }] : [],
	);
	const canAlign = sides.length > 1 && sides.every((s) => markers[s.side] !== undefined);
	const shift = (side: number) => (align === "marker" && canAlign ? (markers[side] ?? 0) : 0);
	const race = (match.rows?.length ?? 0) > 0 && sides.some((s) => isRace(s, sides));
	return (
		<>
			{canAlign && (
				<label className="mb-2 flex items-center gap-2 text-sm">
					aligned at
					<select className="select select-sm w-28" value={align} onChange={(e) => setAlign(e.target.value)}>
						<option value="start">the start</option>
						<option value="marker">the marker</option>
					</select>
				</label>
			)}
			<div className="grid gap-6 lg:grid-cols-2">
				<RateOverlay sides={sides} shift={shift} />
				{race ? <Race sides={sides} /> : null}
				<Shares names={names} ids={ids} />
				<Ladder match={match} names={names} />
			</div>
			<h3 className="mt-6 font-medium">Latency over time, side by side</h3>
			<div className="grid gap-6 md:grid-cols-2">
				{sides.map((s) => (
					<HeatMap key={s.name} title={s.name} intervals={s.intervals} />
				))}
			</div>
		</>
	);
}

/** Where the first marker of each measurement stands, in seconds. */
function useMarkers(ids: (number | undefined)[]): Record<number, number> {
	const measurements = useQueries({
		queries: ids.map((id) => ({
			queryKey: ["measurement", id],
			queryFn: () => api.measurement(id ?? 0),
			enabled: id !== undefined,
		})),
	});
	const runs = useQueries({
		queries: measurements.map((m) => ({
			queryKey: ["run", m.data?.runId],
			queryFn: () => api.run(m.data?.runId ?? 0),
			enabled: m.data !== undefined,
		})),
	});
	const found: Record<number, number> = {};
	for (const [side, run] of runs.entries()) {
		const marker = run.data?.markers?.find((m) => m.measurementId === ids[side]);
		if (marker) {
			found[side] = marker.atSeconds;
		}
	}
	return found;
}

const end = (i: Interval) => i.startSeconds + i.lengthSeconds;

function RateOverlay({ sides, shift }: { sides: SideSeries[]; shift: (side: number) => number }) {
	const option = useMemo(
		() => (c: Colours) => ({
			xAxis: {
				type: "value",
				name: "seconds",
				nameLocation: "middle",
				nameGap: 26,
				splitLine: { show: false },
			},
			yAxis: { type: "value", name: "MB/s", min: 0 },
			tooltip: { trigger: "axis", valueFormatter: (v: unknown) => `${digits(Number(v))} MB/s` },
			series: sides.map((s) => ({
				type: "line",
				name: s.name,
				...sideLine(s.side, c),
				showSymbol: s.intervals.length < 40,
				data: s.intervals.map((i) => [end(i) - shift(s.side), moved(i).throughput / 1e6]),
			})),
		}),
		[sides, shift],
	);
	return (
		<Chart
			title="Throughput over time"
			height={260}
			summary={`Throughput of ${sides.map((s) => s.name).join(", ")} on one time axis.`}
			table={() => [
				["side", "end of interval (s)", "MB/s"],
				...sides.flatMap((s) =>
					s.intervals.map((i) => [s.name, end(i) - shift(s.side), moved(i).throughput / 1e6]),
				),
			]}
			option={option}
		/>
	);
}

/** A fixed amount of work is a race: all sides moved about the same, in other times. */
function isRace(s: SideSeries, sides: SideSeries[]): boolean {
	const moved = sides.map((o) => total(o.intervals));
	return s === sides[0] && moved.length > 1 && Math.max(...moved) < 1.02 * Math.min(...moved);
}

const total = (intervals: Interval[]) =>
	intervals.filter((i) => !i.warmUp).reduce((sum, i) => sum + moved(i).bytes, 0);

/** Who finishes a fixed amount of work when, and how steadily. */
function Race({ sides }: { sides: SideSeries[] }) {
	const lines = useMemo(
		() =>
			sides.map((s) => {
				let sum = 0;
				const all = total(s.intervals) || 1;
				const data: [number, number][] = [[0, 0]];
				const counted = s.intervals.filter((o) => !o.warmUp);
				for (const i of counted) {
					sum += moved(i).bytes;
					data.push([end(i) - counted[0].startSeconds, (sum / all) * 100]);
				}
				return { ...s, data };
			}),
		[sides],
	);
	const option = useMemo(
		() => (c: Colours) => ({
			xAxis: {
				type: "value",
				name: "seconds",
				nameLocation: "middle",
				nameGap: 26,
				splitLine: { show: false },
			},
			yAxis: { type: "value", name: "% done", min: 0, max: 100 },
			tooltip: { trigger: "axis", valueFormatter: (v: unknown) => `${digits(Number(v))} %` },
			series: lines.map((l) => ({
				type: "line",
				name: l.name,
				...sideLine(l.side, c),
				showSymbol: false,
				data: l.data,
			})),
		}),
		[lines],
	);
	const order = [...lines].sort((a, b) => a.data[a.data.length - 1][0] - b.data[b.data.length - 1][0]);
	return (
		<Chart
			title="Race for the same work"
			height={260}
			summary={order
				.map((l) => `${l.name} is done after ${seconds(l.data[l.data.length - 1][0])}`)
				.join("; ")}
			table={() => [
				["side", "seconds", "% done"],
				...lines.flatMap((l) => l.data.map((d) => [l.name, ...d])),
			]}
			option={option}
		/>
	);
}

/** The share of operations done within a time, of all sides over each other. */
function Shares({ names, ids }: { names: string[]; ids: (number | undefined)[] }) {
	const results = useQueries({
		queries: ids.map((id) => ({
			queryKey: ["latency", id],
			queryFn: () => api.latency(id ?? 0),
			enabled: id !== undefined,
		})),
	});
	const lines = results.flatMap((r, side) => {
		const bars = moving(r.data?.classes ?? {})
			.flatMap((name) => r.data?.classes[name].bars ?? [])
			.sort((a, b) => a.toSeconds - b.toSeconds);
		const all = bars.reduce((sum, b) => sum + b.count, 0);
		let sum = 0;
		// Classes share buckets: of those that end alike only the last says how many are done.
		const data = bars
			.map((b) => {
				sum += b.count;
				return [b.toSeconds * 1e3, (sum / all) * 100];
			})
			.filter(([to], n) => bars[n + 1] === undefined || bars[n + 1].toSeconds * 1e3 !== to);
		return data.length > 0 ? [{ name: names[side], side, data }] : [];
	});
	const option = (c: Colours) => ({
		xAxis: {
			type: "log",
			name: "latency, ms",
			nameLocation: "middle",
			nameGap: 26,
			axisLabel: { formatter: (v: number) => digits(v) },
			splitLine: { show: false },
			min: Math.min(...lines.map((l) => l.data[0][0])),
			max: Math.max(...lines.map((l) => l.data[l.data.length - 1][0])),
		},
		yAxis: { type: "value", name: "% done", min: 0, max: 100 },
		tooltip: { trigger: "axis", valueFormatter: (v: unknown) => `${digits(Number(v))} %` },
		series: lines.map((l) => ({
			type: "line",
			step: "end",
			name: l.name,
			...sideLine(l.side, c),
			showSymbol: false,
			data: l.data,
		})),
	});
	if (lines.length === 0) {
		return null;
	}
	return (
		<Chart
			title="Share of operations within a latency"
			height={260}
			summary={`Cumulative latency distributions of ${lines.map((l) => l.name).join(", ")}.`}
			table={() => [
				["side", "latency (ms)", "% within"],
				...lines.flatMap((l) => l.data.map((d) => [l.name, ...d])),
			]}
			option={option}
		/>
	);
}

const rungs = ["p50", "p90", "p95", "p99", "p99.9", "p99.99"];

/** Percentiles as a ladder: how far the slow operations are from the usual ones, with whiskers over repeats. */
function Ladder({ match, names }: { match: Match; names: string[] }) {
	const lines = useMemo(
		() =>
			names.map((name, side) => ({
				name,
				side,
				rungs: rungs.flatMap((key, n) => {
					const row = match.rows?.find((r) => r.figure === key);
					const v = side === 0 ? row?.baseline : row?.candidates?.[side - 1];
					return v && (v.values ?? []).length > 0
						? [
								{
									n,
									mean: v.taken.mean * 1e3,
									known: v.taken.known,
									low: (v.taken.low ?? 0) * 1e3,
									high: (v.taken.high ?? 0) * 1e3,
								},
							]
						: [];
				}),
			})),
		[match, names],
	);
	const option = useMemo(
		() => (c: Colours) => ({
			legend: { data: lines.map((l) => l.name) },
			xAxis: { type: "category", data: rungs, name: "percentile", nameLocation: "middle", nameGap: 26 },
			yAxis: { type: "log", name: "latency, ms", axisLabel: { formatter: (v: number) => digits(v) } },
			tooltip: {
				trigger: "axis",
				valueFormatter: (v: unknown) => `${digits(Number(Array.isArray(v) ? v[1] : v))} ms`,
			},
			series: lines.flatMap((l) => [
				{ type: "line", name: l.name, ...sideLine(l.side, c), data: l.rungs.map((r) => [r.n, r.mean]) },
				intervalBars(
					`${l.name}, 95 % interval`,
					c.sides[l.side % c.sides.length],
					l.rungs
						.filter((r) => r.known)
						.map((r) => ({ at: r.n, low: r.low, high: r.high, least: r.mean / 10, most: r.mean * 10 })),
				),
			]),
		}),
		[lines],
	);
	return (
		<Chart
			title="Percentile ladder"
			height={260}
			note={lines.some((l) => l.rungs.some((r) => r.known)) ? intervalNote : undefined}
			summary={lines
				.map((l) => `${l.name}: ${l.rungs.map((r) => `${rungs[r.n]} ${seconds(r.mean / 1e3)}`).join(", ")}`)
				.join("; ")}
			table={() => [
				["side", "percentile", "mean (ms)", "low (ms)", "high (ms)"],
				...lines.flatMap((l) =>
					l.rungs.map((r) => [l.name, rungs[r.n], r.mean, r.known ? r.low : "", r.known ? r.high : ""]),
				),
			]}
			option={option}
		/>
	);
}
