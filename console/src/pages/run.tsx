import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import {
	api,
	type Estimate,
	type Interval,
	isFinal,
	type Marker,
	type Measurement,
	type Run,
} from "../api/client";
import { useFeed } from "../api/feed";
import { save } from "../parts/chart";
import { byFiles, flow, wholeFiles } from "../parts/classes";
import { DistributionChart } from "../parts/distribution";
import { Behind, Markers, Repeats } from "../parts/evidence";
import { Doubt, FiguresTable } from "../parts/figures";
import { bytes, digits, files, moment, rate, seconds } from "../parts/format";
import { HeatMap } from "../parts/heat";
import { SeriesCharts } from "../parts/series";
import { StatusWord, Trouble, Unreadable } from "../parts/shell";
import { Beside, Races } from "../parts/together";
import { isTuning, Tuned } from "../parts/tuned";

/** One run: live while it goes on, its results afterwards. */
export function RunPage() {
	const id = Number(useParams().id);
	const detail = useQuery({ queryKey: ["run", id], queryFn: () => api.run(id) });
	const feed = useFeed(id);
	const [chosen, choose] = useState<number>();
	const run = feed.run ?? detail.data;
	if (detail.error) {
		return (
			<>
				<Trouble error={detail.error} />
				<Link to="/runs" className="btn btn-sm">
					Show the runs
				</Link>
			</>
		);
	}
	if (!run) {
		return null;
	}
	const measurements = feed.measurements.length > 0 ? feed.measurements : (detail.data?.measurements ?? []);
	const markers = detail.data?.markers ?? [];
	const shown = measurements.find((m) => m.id === chosen) ?? measurements[measurements.length - 1];
	return (
		<>
			<Heading run={run} />
			<Unreadable of={detail.data?.unreadable} />
			{feed.broken && !isFinal(run.status) && (
				<p role="status">The live connection was lost; reconnecting…</p>
			)}
			{run.reason && (
				<p
					role="status"
					className={run.status === "failed" || run.status === "interrupted" ? "text-error" : ""}
				>
					{run.reason}
				</p>
			)}
			<Beside run={run} />
			<PassOver run={run} />
			<Waiting run={run} />
			<Tuned run={run} />
			{measurements.length > 1 && (
				<MeasurementList measurements={measurements} shown={shown} choose={choose} />
			)}
			<Markers run={run} markers={markers} refresh={() => detail.refetch()} />
			<Races run={run} shown={shown} />
			{shown && (
				<MeasurementView key={shown.id} m={shown} live={feed.points[shown.id] ?? []} markers={markers} />
			)}
			{!isTuning(run) && <Repeats run={run} />}
			<Behind run={run} shown={shown} />
		</>
	);
}

/** After a check stopped a run: starts it again, passing over what failed by name. */
function PassOver({ run }: { run: Run }) {
	const navigate = useNavigate();
	const [error, setError] = useState<unknown>();
	const failed = (run.checks ?? []).filter((c) => c.result === "failed").map((c) => c.name);
	if (run.status !== "failed" || failed.length === 0 || run.progress.step > 0) {
		return null;
	}
	const again = async () => {
		const next = await api.startRun({
			name: run.name,
			volumeId: run.volumeId,
			plan: run.plan,
			override: failed,
		});
		navigate(`/runs/${next.id}`);
	};
	return (
		<p className="my-3">
			<button type="button" className="btn btn-sm" onClick={() => again().catch(setError)}>
				Measure anyway, overriding {failed.join(", ")}
			</button>
			{error !== undefined && <Trouble error={error} />}
		</p>
	);
}

function Heading({ run }: { run: Run }) {
	const navigate = useNavigate();
	const queries = useQueryClient();
	const [error, setError] = useState<unknown>();
	const attempt = (work: () => Promise<void>) => () => work().catch(setError);
	const remove = async () => {
		if (window.confirm(`Remove run ${run.id} with all its results?`)) {
			await api.removeRun(run.id);
			queries.invalidateQueries({ queryKey: ["runs"] });
			navigate("/runs");
		}
	};
	const exported = (query: string, name: string) =>
		attempt(() => save(`/runs/${run.id}/export?${query}`, `heron-run-${run.id}${name}`));
	return (
		<>
			<div className="flex flex-wrap items-baseline gap-x-4 gap-y-1">
				<h1 className="text-xl">
					<span className="opacity-70">Run {run.id}</span> {run.name}
				</h1>
				<StatusWord status={run.status} />
				<span className="ml-auto flex flex-wrap gap-2 print:hidden">
					{isFinal(run.status) ? (
						<>
							<Link className="btn btn-sm" to={`/compare?base=${run.id}`}>
								Compare with…
							</Link>
							<button
								type="button"
								className="btn btn-sm"
								onClick={attempt(() => save(`/runs/${run.id}/report`, `heron-run-${run.id}.html`))}
							>
								Report
							</button>
							<button type="button" className="btn btn-sm" onClick={exported("format=json", ".json")}>
								Export JSON
							</button>
							<details className="dropdown dropdown-end">
								<summary className="btn btn-sm">Export CSV</summary>
								<ul className="menu dropdown-content z-10 mt-1 w-44 rounded-box border border-base-300 bg-base-100">
									{["summary", "series", "latency", ...(run.joint?.as === "race" ? ["races"] : [])].map(
										(table) => (
											<li key={table}>
												<button
													type="button"
													onClick={exported(`format=csv&table=${table}`, `-${table}.csv`)}
												>
													{table}
												</button>
											</li>
										),
									)}
								</ul>
							</details>
							<button type="button" className="btn btn-sm btn-ghost" onClick={attempt(remove)}>
								Remove…
							</button>
						</>
					) : (
						<>
							{run.progress.steps > 1 && (
								<button
									type="button"
									className="btn btn-sm"
									onClick={attempt(() => api.stopRun(run.id, true))}
								>
									Stop after this one
								</button>
							)}
							<button
								type="button"
								className="btn btn-sm btn-primary"
								onClick={attempt(() => api.stopRun(run.id, false))}
							>
								Stop
							</button>
						</>
					)}
				</span>
			</div>
			<p className="mb-3 text-sm opacity-80 [overflow-wrap:anywhere]">
				Volume {run.volume.name} ({run.volume.locator}
				{run.volume.facts &&
					`, ${bytes(run.volume.facts.sizeBytes)}${run.volume.facts.fileSystem ? `, ${run.volume.facts.fileSystem}` : ""}${run.volume.facts.devices?.length ? ` on ${run.volume.facts.devices.join(", ")}` : ""}`}
				), {moment(run.started ?? run.created)}, on {run.host}
			</p>
			{error !== undefined && <Trouble error={error} />}
		</>
	);
}

/** What a plan takes, in words. */
export function estimate(e: Estimate): string {
	const measurements = e.measurements === 1 ? "one measurement" : `${e.measurements} measurements`;
	const written =
		e.writtenBytes > 0 ? `, ${bytes(e.writtenBytes)} written by fills, amounts and set rates` : "";
	return `${measurements}, about ${seconds(e.seconds)}${written}`;
}

/** Says what a run does before and between its measurements. */
function Waiting({ run }: { run: Run }) {
	const p = run.progress;
	if ((run.status === "queued" || run.status === "waiting") && run.reason) {
		return <p role="status">{run.reason}</p>;
	}
	if (run.status === "queued") {
		return <p role="status">It waits for the run before it. Then it takes {estimate(run.estimate)}.</p>;
	}
	if (run.status === "waiting") {
		return <p role="status">It waits for its turn: another volume is being measured or prepared.</p>;
	}
	if (run.status === "settling") {
		return (
			<p role="status">
				Waiting for the volume to become idle before measurement {p.step} of {p.steps}.
			</p>
		);
	}
	if (run.status !== "preparing") {
		return null;
	}
	return (
		<div role="status" className="my-4">
			<p>
				Preparing the volume
				{p.prepareBytes ? `: ${bytes(p.preparedBytes ?? 0)} of ${bytes(p.prepareBytes)} written` : "…"}
			</p>
			{p.prepareBytes ? (
				<progress
					className="progress progress-primary w-full"
					value={p.preparedBytes ?? 0}
					max={p.prepareBytes}
				/>
			) : null}
		</div>
	);
}

function title(m: Measurement): string {
	const point = (m.point ?? []).map((s) => `${s.field} ${s.value}`).join(", ");
	return (
		m.name + (point ? ` at ${point}` : "") + (m.repeats > 1 ? `, repeat ${m.repeat} of ${m.repeats}` : "")
	);
}

function MeasurementList(props: {
	measurements: Measurement[];
	shown?: Measurement;
	choose: (id: number | undefined) => void;
}) {
	return (
		<div className="my-4 max-h-72 overflow-auto rounded-box border border-base-300">
			<table className="table table-sm table-pin-rows">
				<thead>
					<tr>
						<th className="figure">No.</th>
						<th>Measurement</th>
						<th>Status</th>
						<th className="figure">IOPS</th>
						<th className="figure">MB/s</th>
						<th className="figure">p50, ms</th>
						<th className="figure">p99, ms</th>
					</tr>
				</thead>
				<tbody>
					{props.measurements.map((m) => (
						<tr key={m.id} className={m.id === props.shown?.id ? "bg-base-200" : "hover:bg-base-200"}>
							<td className="figure">{m.position}</td>
							<td>
								<button
									type="button"
									className="link link-hover text-left"
									aria-pressed={m.id === props.shown?.id}
									onClick={() => props.choose(m.id)}
								>
									{title(m)}
								</button>
								<Doubt m={m} figure="total" />
							</td>
							<td title={m.reason}>
								<StatusWord status={m.status} />
							</td>
							<td className="figure">{m.summary && rateOf(m)}</td>
							<td className="figure">
								{m.summary && digits(m.summary.total.throughputBytesPerSecond / 1e6)}
							</td>
							<td className="figure">{latencyOf(m, "p50Seconds")}</td>
							<td className="figure">{latencyOf(m, "p99Seconds")}</td>
						</tr>
					))}
				</tbody>
			</table>
		</div>
	);
}

/** Operations a second; of a load of files whole files. */
function rateOf(m: Measurement): string {
	const s = m.summary;
	return s && byFiles(m.load, s.classes) ? files(s.classes[wholeFiles].rate) : rate(s?.total.rate ?? 0);
}

function latencyOf(m: Measurement, key: "p50Seconds" | "p99Seconds"): string {
	const s = m.summary;
	const of = s && byFiles(m.load, s.classes) ? s.classes[wholeFiles] : s?.total;
	return of ? digits(of.latency[key] * 1e3) : "";
}

function MeasurementView({ m, live, markers }: { m: Measurement; live: Interval[]; markers: Marker[] }) {
	const ended = isFinal(m.status);
	const series = useQuery({ queryKey: ["series", m.id], queryFn: () => api.series(m.id), enabled: ended });
	const latency = useQuery({ queryKey: ["latency", m.id], queryFn: () => api.latency(m.id), enabled: ended });
	const intervals = series.data?.intervals ?? live;
	return (
		<section aria-label={title(m)} className="mt-4">
			<h2 className="text-lg">{title(m)}</h2>
			{m.reason && <p className="text-error">{m.reason}</p>}
			{ended ? <FiguresTable m={m} /> : <Progress m={m} intervals={intervals} />}
			{intervals.length > 0 && (
				<div className="mt-6">
					<SeriesCharts
						intervals={intervals}
						markers={markers.filter((k) => k.measurementId === m.id)}
						m={m}
					/>
				</div>
			)}
			{latency.data && m.summary && (
				<div className="mt-6 grid gap-6 lg:grid-cols-2">
					<DistributionChart m={m} latency={latency.data} />
					<HeatMap title="Latency over time" intervals={intervals} />
				</div>
			)}
		</section>
	);
}

/** How far a measurement under way is. */
function Progress({ m, intervals }: { m: Measurement; intervals: Interval[] }) {
	const [now, setNow] = useState(Date.now());
	useEffect(() => {
		const timer = setInterval(() => setNow(Date.now()), 250);
		return () => clearInterval(timer);
	}, []);
	const planned = m.load.forSeconds + (m.load.warmUpSeconds ?? 0);
	const elapsed = Math.max(0, (now - Date.parse(m.started)) / 1000);
	const last = intervals[intervals.length - 1];
	const whole = intervals.reduce((sum, i) => sum + flow(i, wholeFiles).operations, 0);
	const wholeBytes = intervals.reduce((sum, i) => sum + flow(i, wholeFiles).bytes, 0);
	const all = m.load.files ? m.load.spanBytes * (m.load.passes ?? 0) : 0;
	return (
		<div role="status">
			{m.load.files && (
				<p>
					{whole} files done
					{all > 0 && wholeBytes > 0 && `, ${bytes(wholeBytes)} of ${bytes(all)}`}
				</p>
			)}
			{all > 0 && wholeBytes > 0 && (
				<progress
					className="progress progress-primary w-full"
					aria-label="files"
					value={Math.min(wholeBytes, all)}
					max={all}
				/>
			)}
			<p>
				{seconds(Math.min(elapsed, planned || elapsed))}
				{planned > 0 && ` of ${seconds(planned)}`}
				{last?.warmUp && ", in the warm-up"}
			</p>
			{planned > 0 && (
				<progress
					className="progress progress-primary w-full"
					value={Math.min(elapsed, planned)}
					max={planned}
				/>
			)}
		</div>
	);
}
