import { useQuery } from "@tanstack/react-query";
import { type FormEvent, useMemo, useState } from "react";
import { api, isFinal, type Line, type Marker, type Measurement, type Run } from "../api/client";
import { Answers } from "./answers";
import { Chart, type Colours, intervalBars, intervalNote, sideLine } from "./chart";
import { show } from "./comparison";
import { digits, price, rate, seconds, share } from "./format";
import { Hops } from "./hops";
import { useLabels } from "./labels";
import { Checks, Facts } from "./setup";
import { Trouble } from "./shell";

const figures: [string, string, string][] = [
	["throughput", "Throughput", "bytes per second"],
	["iops", "IOPS", "per second"],
	["p99", "p99 latency", "seconds"],
	["files", "Files", "files per second"],
	["file-p99", "p99 time of a file", "seconds"],
	["finish", "Time to finish", "seconds"],
	["late", "Late pieces", "share"],
	["stall", "Longest stall", "seconds"],
	["worst", "Slowest interval", "per second"],
];

/** What the repeats of each point say together, with what the sweeps show. */
export function Repeats({ run }: { run: Run }) {
	const [wanted, setWanted] = useState(0);
	const shape = useQuery({
		queryKey: ["shape", run.id, run.status, wanted],
		queryFn: () => api.shape(run.id, wanted / 1e3),
		placeholderData: (before) => before,
		enabled: isFinal(run.status),
	});
	const points = (shape.data?.points ?? []).filter((p) => (p.measurements ?? []).length > 1);
	const lines = shape.data?.lines ?? [];
	const shown = figures.filter(([key]) =>
		points.some((p) => p.rows?.some((r) => r.figure === key && (r.values ?? []).length > 0)),
	);
	return (
		<>
			{points.length > 0 && (
				<section aria-label="Repeats together" className="mt-8">
					<h2 className="text-lg">Repeats together</h2>
					<div className="overflow-x-auto">
						<table className="table table-sm">
							<thead>
								<tr>
									<th>Measurement</th>
									{shown.map(([key, label]) => (
										<th key={key} className="figure">
											{label}
										</th>
									))}
									<th>Remarks</th>
								</tr>
							</thead>
							<tbody>
								{points.map((p) => {
									const main = p.rows?.find((r) => r.figure === p.main);
									return (
										<tr key={p.title}>
											<td>{p.title}</td>
											{shown.map(([key, , unit]) => {
												const v = p.rows?.find((r) => r.figure === key);
												return (
													<td key={key} className="figure">
														{v && (v.values ?? []).length > 0 && (
															<>
																{show(unit, v.mean.mean)}
																{v.unreliable && (
																	<abbr className="ml-1 text-error no-underline" title={v.unreliable}>
																		unreliable
																	</abbr>
																)}
																<br />
																<span className="text-xs opacity-80">± {share(half(v.mean))}</span>
															</>
														)}
													</td>
												);
											})}
											<td className="text-sm">
												{p.measurements?.length} repeats, spread {share(main?.variation ?? 0)}
												{p.words && `; ${p.words}`}
											</td>
										</tr>
									);
								})}
							</tbody>
						</table>
					</div>
					<p className="mt-1 text-sm opacity-80">
						± is half the width of Student's 95 % interval over the repeats.
					</p>
					<div className="mt-4 grid gap-6 lg:grid-cols-2">
						{points
							.filter((p) => p.passes.shape !== "level")
							.map((p) => (
								<Warming
									key={p.title}
									title={p.title}
									values={everyPass(p.rows?.find((r) => r.figure === "iops" || r.figure === "files"))}
									warm={p.passes.going ? 0 : p.passes.warm}
								/>
							))}
					</div>
				</section>
			)}
			<Answers answers={shape.data?.answers ?? []} />
			{lines.length > 0 && (
				<section aria-label="Sweeps" className="mt-8">
					<div className="flex flex-wrap items-center gap-4">
						<h2 className="text-lg">Sweeps</h2>
						<label className="flex items-center gap-2 text-sm">
							largest rate with p99 within
							<input
								className="input input-sm w-24"
								type="number"
								min="0"
								step="any"
								value={wanted || ""}
								onChange={(e) => setWanted(Math.max(0, Number(e.target.value)))}
							/>
							ms
						</label>
					</div>
					{lines.map((l) => (
						<Sweep key={l.stage + l.field + JSON.stringify(l.held)} line={l} />
					))}
				</section>
			)}
		</>
	);
}

/** The values of all repeats, those before it was warm too. */
const everyPass = (v?: { all?: number[] | null; values: number[] | null }) => v?.all ?? v?.values ?? [];

const half = (m: { mean: number; low?: number; high?: number }) =>
	m.mean > 0 ? ((m.high ?? m.mean) - (m.low ?? m.mean)) / 2 / m.mean : 0;

/** The passes one by one, with the first that is warm. */
function Warming({ title, values, warm }: { title: string; values: number[]; warm: number }) {
	const option = useMemo(
		() => (c: Colours) => ({
			legend: { show: false },
			xAxis: {
				type: "category",
				data: values.map((_, n) => `${n + 1}`),
				name: "pass",
				nameLocation: "middle",
				nameGap: 26,
			},
			yAxis: { type: "value", name: "IOPS", min: 0 },
			tooltip: { trigger: "axis", valueFormatter: (v: unknown) => `${rate(Number(v))} IOPS` },
			series: [
				{
					type: "line",
					name: title,
					...sideLine(1, c),
					data: values,
					markLine: warm
						? {
								silent: true,
								symbol: "none",
								label: { formatter: "warm", color: c.ink },
								lineStyle: { color: c.ink, type: "dashed" },
								data: [{ xAxis: warm - 1 }],
							}
						: undefined,
				},
			],
		}),
		[title, values, warm],
	);
	return (
		<Chart
			title={`${title}, pass by pass`}
			summary={`${title}: ${values.map((v) => rate(v)).join(", ")} IOPS${warm ? `, warm from pass ${warm} on` : ", not warm at the last"}.`}
			table={() => [["pass", "IOPS"], ...values.map((v, n) => [n + 1, v])]}
			option={option}
		/>
	);
}

/** Whether a curve leaves a spot more upwards than along, so that a name above the spot would lie on it. */
function rises(points: number[][], n: number) {
	const [from, to] = points.slice(n, n + 2);
	const share = (side: number) => Math.abs(to[side] - from[side]) / Math.max(...points.map((p) => p[side]));
	return to !== undefined && share(1) > share(0);
}

/** Rate and latency along one swept field, and against each other with the knee marked. */
function Sweep({ line }: { line: Line }) {
	const spots = line.spots ?? [];
	const xAxis = {
		type: line.log ? "log" : "value",
		logBase: 2,
		name: line.field,
		nameLocation: "middle",
		nameGap: 26,
		axisLabel: {
			formatter: (v: number) =>
				spots.find((s) => Math.abs(s.at / v - 1) < 1e-6)?.value ??
				(line.log ? "" : Number.isInteger(v) ? String(v) : digits(v)),
		},
		splitLine: { show: false },
		min: Math.min(...spots.map((s) => s.at)),
		max: Math.max(...spots.map((s) => s.at)),
	};
	const top = Math.max(...spots.map((s) => s.rate.mean));
	const rates = (c: Colours) => ({
		legend: { show: false },
		xAxis,
		yAxis: { type: "value", name: "IOPS", min: 0, axisLabel: { formatter: (v: number) => rate(v) } },
		tooltip: { trigger: "axis", valueFormatter: (v: unknown) => `${rate(Number(v))} IOPS` },
		series: [
			{ type: "line", name: "rate", ...sideLine(1, c), data: spots.map((s) => [s.at, s.rate.mean]) },
			intervalBars(
				"95 % interval",
				c.sides[1],
				spots
					.filter((s) => s.rate.known)
					.map((s) => ({
						at: s.at,
						low: s.rate.low ?? 0,
						high: s.rate.high ?? 0,
						least: 0,
						most: 1.5 * top,
					})),
			),
		],
	});
	const points = spots.map((s) => [s.rate.mean, s.meanSeconds * 1e3]);
	const curve = (c: Colours) => ({
		legend: { show: false },
		xAxis: {
			type: "value",
			name: "IOPS",
			nameLocation: "middle",
			nameGap: 26,
			min: 0,
			axisLabel: { formatter: (v: number) => rate(v) },
		},
		yAxis: { type: "value", name: "mean latency, ms", min: 0 },
		tooltip: {
			trigger: "item",
			formatter: (hit: { dataIndex: number }) => {
				const s = spots[hit.dataIndex];
				return s ? `${line.field} ${s.value}: ${rate(s.rate.mean)} IOPS at ${seconds(s.meanSeconds)}` : "";
			},
		},
		series: [
			{
				type: "line",
				name: "latency against rate",
				...sideLine(1, c),
				label: {
					show: true,
					color: c.ink,
					formatter: (hit: { dataIndex: number }) =>
						`${spots[hit.dataIndex].value}${hit.dataIndex === line.knee ? " (knee)" : ""}${hit.dataIndex === line.keeps ? " (keeps p99)" : ""}`,
				},
				data: points.map((value, n) => ({
					value,
					symbolSize: n === line.knee ? 13 : 6,
					label: rises(points, n) ? { position: "left", offset: [0, -7] } : { position: "top" },
				})),
			},
		],
	});
	const efficiency = (c: Colours) => ({
		legend: { show: false },
		xAxis,
		yAxis: { type: "value", min: 0, axisLabel: { formatter: (v: number) => share(v) } },
		tooltip: { trigger: "axis", valueFormatter: (v: unknown) => share(Number(v)) },
		series: [
			{ type: "line", name: "each", ...sideLine(1, c), data: spots.map((s) => [s.at, s.efficiency ?? 0]) },
		],
	});
	const counted = spots.some((s) => s.efficiency);
	const held = (line.held ?? []).map((s) => `${s.field} ${s.value}`).join(", ");
	return (
		<div className="mt-4">
			<p>
				<strong className="font-medium">
					{line.stage} by {line.field}
					{held && ` at ${held}`}
				</strong>
				: {line.words}
			</p>
			<div className={`mt-2 grid gap-6 ${counted ? "lg:grid-cols-3" : "lg:grid-cols-2"}`}>
				<Chart
					title={`Rate by ${line.field}`}
					summary={line.words}
					note={spots.some((s) => s.rate.known) ? intervalNote : undefined}
					table={() => [
						[line.field, "IOPS", "low", "high"],
						...spots.map((s) => [s.value, s.rate.mean, s.rate.low ?? "", s.rate.high ?? ""]),
					]}
					option={rates}
				/>
				<Chart
					title="Latency against rate"
					summary={spots
						.map((s) => `${s.value}: ${rate(s.rate.mean)} IOPS at ${seconds(s.meanSeconds)}`)
						.join("; ")}
					table={() => [
						[line.field, "IOPS", "mean latency (s)", "p99 (s)"],
						...spots.map((s) => [s.value, s.rate.mean, s.meanSeconds, s.p99Seconds]),
					]}
					option={curve}
				/>
				{counted && (
					<Chart
						title="What each does"
						summary={spots.map((s) => `${s.value}: ${share(s.efficiency ?? 0)}`).join("; ")}
						table={() => [
							[line.field, `share of what each does at ${spots[0].value}`],
							...spots.map((s) => [s.value, s.efficiency ?? ""]),
						]}
						option={efficiency}
					/>
				)}
			</div>
			{line.worth >= 0 && <Worth line={line} />}
		</div>
	);
}

/** What the rate is for its price along a sweep, and what more of it brings. */
function Worth({ line }: { line: Line }) {
	return (
		<div className="mt-2 overflow-x-auto">
			<table className="table table-sm w-auto" aria-label={`Worth by ${line.field}`}>
				<thead>
					<tr>
						<th>{line.field}</th>
						<th className="figure">price</th>
						<th className="figure">per second</th>
						<th className="figure">for each 1,000</th>
						<th>what the added price brings</th>
					</tr>
				</thead>
				<tbody>
					{(line.spots ?? []).map((s, n) => (
						<tr key={s.value} className={n === line.worth ? "font-medium" : ""}>
							<td>
								{s.value}
								{n === line.worth && " (most for its price)"}
							</td>
							<td className="figure">{price(s.price ?? 0)}</td>
							<td className="figure">{digits(s.rate.mean)}</td>
							<td className="figure">{digits(s.ratePerThousand.mean)}</td>
							<td>{s.brings}</td>
						</tr>
					))}
				</tbody>
			</table>
		</div>
	);
}

/** What stood behind a run: setup, checks, and how far the shown measurement reached. */
export function Behind({ run, shown }: { run: Run; shown?: Measurement }) {
	const label = useLabels();
	const reach = useQuery({
		queryKey: ["reach", run.id, run.status],
		queryFn: () => api.reach(run.id),
		enabled: isFinal(run.status),
	});
	const of = reach.data?.reached?.find((r) => r.measurementId === shown?.id);
	const worried = (run.checks ?? []).filter((c) => c.result !== "passed").length;
	return (
		<>
			{of && (of.ceilings.hops ?? []).length > 0 && (
				<section aria-label="Ceilings" className="mt-8">
					<h2 className="text-lg">
						{of.reached
							? `It reached ${share(of.reached)} of what the hop “${of.ceilings.limit}” can pass`
							: "Ceilings for this load"}
					</h2>
					<div className="mt-2">
						<Hops
							use={of.ceilings}
							used={(h) => (h.rate > 0 && shown?.summary ? shown.summary.total.rate / h.rate : undefined)}
						/>
					</div>
				</section>
			)}
			<section aria-label="Setup" className="mt-8">
				<details open={run.status === "failed"}>
					<summary className="cursor-pointer text-lg">
						Setup: {run.setup.facts?.length ?? 0} facts, {(run.checks ?? []).length} checks
						{worried > 0 && `, ${worried} to mind`}
					</summary>
					<div className="mt-2 grid gap-x-10 gap-y-4 lg:grid-cols-2">
						<div className="min-w-0 overflow-x-auto">
							<Checks checks={run.checks ?? []} />
							{(run.overrides ?? []).length > 0 && (
								<p className="mt-2 text-accent">
									Failed checks that were overridden: {run.overrides?.join(", ")}.
								</p>
							)}
						</div>
						<div className="min-w-0 overflow-x-auto">
							<Facts setup={run.setup} label={label} />
						</div>
					</div>
				</details>
			</section>
		</>
	);
}

/** Markers of a run with what changed at each, and a field to set one while it measures. */
export function Markers({ run, markers, refresh }: { run: Run; markers: Marker[]; refresh: () => void }) {
	const [name, setName] = useState("");
	const [error, setError] = useState<unknown>();
	const set = (e: FormEvent) => {
		e.preventDefault();
		api
			.mark(run.id, name)
			.then(() => {
				setName("");
				setError(undefined);
				refresh();
			})
			.catch(setError);
	};
	return (
		<>
			{run.status === "running" && (
				<form onSubmit={set} className="my-3 flex items-end gap-2">
					<label className="flex flex-col gap-1 text-sm">
						Name this moment
						<input
							className="input input-sm w-64"
							name="marker"
							placeholder="switched offload on"
							value={name}
							onChange={(e) => setName(e.target.value)}
							required
						/>
					</label>
					<button type="submit" className="btn btn-sm">
						Set a marker
					</button>
				</form>
			)}
			{error !== undefined && <Trouble error={error} />}
			{markers.length > 0 && (
				<ul className="my-3">
					{markers.map((m) => (
						<MarkerWords key={m.id} marker={m} />
					))}
				</ul>
			)}
		</>
	);
}

function MarkerWords({ marker }: { marker: Marker }) {
	return (
		<li>
			◆ <strong className="font-medium">{marker.name}</strong>, at {seconds(marker.atSeconds)} of its
			measurement. {marker.went?.words}
		</li>
	);
}
