import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, type Counter, isFinal, type Measurement } from "../api/client";
import { bytes, seconds, share } from "../parts/format";
import { Hops } from "../parts/hops";
import { Trouble } from "../parts/shell";

/** A simulated array as its hops: what each can pass, and how busy it was in the newest run. */
export function ArrayPage() {
	const id = Number(useParams().id);
	const array = useQuery({ queryKey: ["array", id], queryFn: () => api.array(id) });
	const newest = useQuery({
		queryKey: ["newest run", id],
		queryFn: () => api.runsOf(id),
		refetchInterval: 3000,
	});
	const runId = newest.data?.runs?.[0]?.id;
	const run = useQuery({
		queryKey: ["run", runId],
		queryFn: () => api.run(runId ?? 0),
		enabled: runId !== undefined,
		refetchInterval: (q) => (q.state.data && !isFinal(q.state.data.status) ? 1000 : false),
	});
	const [use, setUse] = useState(0);
	const [chosen, choose] = useState<number>();
	const measurements = run.data?.measurements ?? [];
	const going = run.data !== undefined && !isFinal(run.data.status);
	const m = measurements.find((o) => o.id === chosen) ?? measurements[going ? measurements.length - 1 : 0];
	const series = useQuery({
		queryKey: ["series", m?.id, m?.status],
		queryFn: () => api.series(m?.id ?? 0),
		enabled: m !== undefined,
		refetchInterval: going ? 1000 : false,
	});
	if (array.error) {
		return <Trouble error={array.error} />;
	}
	if (!array.data) {
		return null;
	}
	const a = array.data;
	const uses = a.uses ?? [];
	const shown = uses[use];
	const inside = meanInside(
		(series.data?.intervals ?? []).filter((i) => !i.warmUp).map((i) => i.inside ?? []),
	);
	return (
		<>
			<div className="flex flex-wrap items-baseline gap-x-4">
				<h1 className="text-xl">{a.name}</h1>
				<span className="opacity-80">{bytes(a.usableBytes)} for data</span>
				{a.price ? (
					<span className="opacity-80">price {a.price.toLocaleString("en").replaceAll(",", " ")}</span>
				) : null}
				<Link to={`/measure?volume=${id}`} className="btn btn-primary btn-sm ml-auto">
					Measure
				</Link>
			</div>
			<ul className="mt-2 max-w-3xl">
				{a.words?.map((w) => (
					<li key={w}>{w}</li>
				))}
			</ul>
			<details className="mt-2 mb-6 max-w-3xl text-sm">
				<summary className="cursor-pointer opacity-80">Assumptions, and the cost of simulation</summary>
				<ul className="mt-1">
					{[...(a.assumed ?? []), a.costs].map((w) => (
						<li key={w}>{w}</li>
					))}
				</ul>
			</details>
			<div className="mb-4 flex flex-wrap gap-4">
				<label className="flex flex-col gap-1">
					Limits of the hops for
					<select className="select w-64" value={use} onChange={(e) => setUse(Number(e.target.value))}>
						{uses.map((u, n) => (
							<option key={u.use} value={n}>
								{u.use}, {bytes(u.blockBytes)}
							</option>
						))}
					</select>
				</label>
				{measurements.length > 0 && (
					<label className="flex flex-col gap-1">
						{going ? "How busy it is" : "How busy it was"} in run {runId}, measurement
						<select
							className="select w-80 truncate pr-8"
							value={m?.id}
							onChange={(e) => choose(Number(e.target.value))}
						>
							{measurements.map((o) => (
								<option key={o.id} value={o.id}>
									{name(o)}
								</option>
							))}
						</select>
					</label>
				)}
			</div>
			<Hops
				use={shown}
				used={(h) => busiest(inside, h.station)}
				beside={(h) =>
					inside.length > 0 && <span className="opacity-80">, {share(busiest(inside, h.station))} busy</span>
				}
			/>
			<p className="mt-2 text-sm opacity-80">
				The width of a bar is the limit of its hop, on a logarithmic scale; the dark part is its utilization.
			</p>
			<TimeFigures inside={inside} />
			<CacheFigures inside={inside} />
		</>
	);
}

const name = (m: Measurement) => `${m.position} ${m.name}${m.repeats > 1 ? `, repeat ${m.repeat}` : ""}`;

function meanInside(all: Counter[][]): Counter[] {
	return (all[0] ?? []).map((c) => ({
		...c,
		value: all.reduce((sum, list) => sum + (list.find((o) => o.name === c.name)?.value ?? 0), 0) / all.length,
	}));
}

function busiest(inside: Counter[], station: string): number {
	return Math.max(
		0,
		...inside.filter((c) => c.name.endsWith(" busy") && c.name.startsWith(`${station} `)).map((c) => c.value),
	);
}

/** Whether a counter is a part of the time of each operation of a kind. */
function isSpent(c: Counter): boolean {
	return c.unit === "seconds" && /^(reads|writes|flushes|trims|copies) /.test(c.name);
}

/** Where the time of an operation goes: the parts of each kind add up to its mean latency. */
function TimeFigures({ inside }: { inside: Counter[] }) {
	const parts = inside.filter((c) => isSpent(c) && c.value > 0);
	if (parts.length === 0) {
		return null;
	}
	return (
		<table className="table table-sm mt-6 max-w-xl">
			<thead>
				<tr>
					<th>Where an operation spent its time, mean of the measurement</th>
					<th className="figure">each</th>
				</tr>
			</thead>
			<tbody>
				{parts.map((c) => (
					<tr key={c.name}>
						<td>{c.name}</td>
						<td className="figure">{seconds(c.value)}</td>
					</tr>
				))}
			</tbody>
		</table>
	);
}

function CacheFigures({ inside }: { inside: Counter[] }) {
	const figures = inside.filter((c) => !isSpent(c) && !/^(member|link|controller busy)/.test(c.name));
	if (figures.length === 0) {
		return null;
	}
	return (
		<table className="table table-sm mt-6 max-w-xl">
			<thead>
				<tr>
					<th>Caches, mean of the measurement</th>
					<th className="figure">value</th>
				</tr>
			</thead>
			<tbody>
				{figures.map((c) => (
					<tr key={c.name}>
						<td>{c.name}</td>
						<td className="figure">
							{c.unit === "share" ? share(c.value) : c.unit === "bytes" ? bytes(c.value) : c.value.toFixed(0)}
						</td>
					</tr>
				))}
			</tbody>
		</table>
	);
}
