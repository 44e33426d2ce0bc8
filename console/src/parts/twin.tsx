import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useCallback, useMemo, useState } from "react";
import { Link } from "react-router";
import { api, type Prediction, type Schemas, type Twin } from "../api/client";
import { Chart, type Colours, download } from "./chart";
import { show } from "./comparison";
import { digits, moment, share } from "./format";
import { Trouble } from "./shell";

type Fitted = Schemas["Fitted"];

/** A share with its sign. */
function signed(v: number): string {
	const rounded = Math.round(v * 1e4) / 1e4;
	return rounded === 0 ? "0 %" : `${rounded > 0 ? "+" : "−"}${share(Math.abs(rounded))}`;
}

/** A value of a parameter; one without a unit is a whole number. */
const valued = (unit: string | undefined, v: number) => (unit ? show(unit, v) : digits(v));

const told: Record<string, string> = { well: "✓ well", roughly: "~ roughly", hardly: "? hardly" };

/** All that is known of a twin, and what it predicted. */
export function TwinShown({ twin }: { twin: Twin }) {
	const f = twin.fitted;
	const save = () =>
		download(URL.createObjectURL(new Blob([twin.text], { type: "application/yaml" })), "twin.yaml");
	return (
		<>
			<div className="flex flex-wrap items-baseline gap-x-4">
				<h1 className="text-xl">{twin.name}</h1>
				<span className="ml-auto flex gap-2 print:hidden">
					<button type="button" className="btn btn-sm" onClick={save}>
						Array file
					</button>
					<Link to="/twins" className="btn btn-sm">
						All twins
					</Link>
				</span>
			</div>
			<p className="mb-3 text-sm opacity-80">
				A twin of {twin.volume}, fitted to{" "}
				{twin.runs?.map((run, i) => (
					<span key={run}>
						{i > 0 && ", "}
						<Link to={`/runs/${run}`} className="link">
							run {run}
						</Link>
					</span>
				))}{" "}
				on {moment(twin.created)}.
			</p>
			{f && (
				<>
					{f.words?.map((words, i) => (
						<p key={words} className={`max-w-3xl ${i === 0 ? "mb-2 text-lg" : "mb-1"}`}>
							{words}
						</p>
					))}
					<div className="mt-6 grid items-start gap-8 lg:grid-cols-2">
						<Parameters f={f} />
						<Residuals f={f} />
					</div>
					<Loads f={f} />
					{(f.next ?? []).length > 0 && (
						<section className="mt-6" aria-label="What to measure next">
							<h2 className="text-lg">What to measure next</h2>
							<ul className="mt-2 list-disc pl-5">
								{f.next?.map((n) => (
									<li key={n.words}>{n.words}</li>
								))}
							</ul>
						</section>
					)}
				</>
			)}
			<Predicted twin={twin} />
			{(f?.leftOut ?? []).length > 0 && (
				<details className="mt-6">
					<summary className="cursor-pointer font-medium">What was left out</summary>
					<ul className="mt-2 list-disc pl-5 text-sm">
						{f?.leftOut?.map((words) => (
							<li key={words}>{words}</li>
						))}
					</ul>
				</details>
			)}
		</>
	);
}

function Parameters({ f }: { f: Fitted }) {
	return (
		<section aria-label="Parameters" className="min-w-0">
			<h2 className="text-lg">What was fitted</h2>
			<div className="overflow-x-auto">
				<table className="table table-sm mt-2">
					<thead>
						<tr>
							<th>Parameter</th>
							<th className="figure">Guess</th>
							<th className="figure">Twin</th>
							<th className="figure">Uncertainty</th>
							<th>Identified</th>
						</tr>
					</thead>
					<tbody>
						{f.parameters?.map((p) => (
							<tr key={p.key} className={p.known === "hardly" ? "opacity-80" : ""}>
								<th scope="row" className="font-normal" title={p.key}>
									{p.label}
								</th>
								<td className="figure">{valued(p.unit, p.guess)}</td>
								<td className="figure font-medium">{valued(p.unit, p.value)}</td>
								<td className="figure whitespace-nowrap">{p.spread}</td>
								<td className="whitespace-nowrap">{told[p.known]}</td>
							</tr>
						))}
					</tbody>
				</table>
			</div>
		</section>
	);
}

/** How far off, in percent, beyond which a spot is drawn at the edge. */
const edge = 50;

const clamped = (v: number) => Math.max(-edge, Math.min(edge, v * 100));

/** Error of the twin under each load, shown to it and not. */
function Residuals({ f }: { f: Fitted }) {
	const rows = useMemo(() => [...(f.loads ?? [])].reverse(), [f.loads]);
	const names = useMemo(() => rows.map((l) => `${l.name}, ${l.label}`), [rows]);
	const option = useCallback(
		(c: Colours) => ({
			grid: { left: 230, right: 24, top: 30, bottom: 42 },
			tooltip: {
				trigger: "item",
				formatter: (p: { dataIndex: number; seriesName: string }) => {
					const l = rows[p.dataIndex];
					return `${names[p.dataIndex]}<br>${p.seriesName}: ${signed(p.seriesName === "in the fit" ? l.off : (l.unseenBy ?? 0))}`;
				},
			},
			xAxis: {
				type: "value",
				name: "error, %",
				nameLocation: "middle",
				nameGap: 26,
				min: -edge,
				max: edge,
				interval: edge / 2,
			},
			yAxis: {
				type: "category",
				data: names,
				axisLabel: { width: 215, overflow: "truncate", hideOverlap: false, interval: 0 },
			},
			series: [
				{
					type: "scatter",
					name: "left out",
					symbolSize: 11,
					itemStyle: { color: c.paper, borderColor: c.write, borderWidth: 2 },
					data: rows.map((l, i) => [l.unseenBy === undefined ? Number.NaN : clamped(l.unseenBy), i]),
				},
				{
					type: "scatter",
					name: "in the fit",
					symbolSize: 8,
					itemStyle: { color: c.read },
					data: rows.map((l, i) => [clamped(l.off), i]),
				},
			],
		}),
		[rows, names],
	);
	return (
		<div className="min-w-0">
			<Chart
				title="Error of the twin"
				summary={rows
					.map(
						(l, i) =>
							`${names[i]}: ${signed(l.off)}${l.unseenBy === undefined ? "" : `, not shown ${signed(l.unseenBy)}`}`,
					)
					.join("; ")}
				table={() => [
					["load", "figure", "measured", "twin", "error", "error when left out"],
					...[...rows].reverse().map((l) => [l.name, l.label, l.measured, l.twin, l.off, l.unseenBy ?? ""]),
				]}
				option={option}
				height={90 + 22 * rows.length}
			/>
			<p className="text-sm opacity-80">
				Filled: in the fit. Hollow: cross-validation. At the edge: {edge} % or more.
			</p>
		</div>
	);
}

function Loads({ f }: { f: Fitted }) {
	return (
		<details className="mt-6">
			<summary className="cursor-pointer font-medium">Load by load</summary>
			<div className="overflow-x-auto">
				<table className="table table-sm mt-2">
					<thead>
						<tr>
							<th>Load</th>
							<th>Figure</th>
							<th className="figure">Measured</th>
							<th className="figure">Twin</th>
							<th className="figure">Error</th>
							<th className="figure">Not shown</th>
						</tr>
					</thead>
					<tbody>
						{f.loads?.map((l) => (
							<tr key={`${l.name} ${l.figure}`}>
								<td>{l.name}</td>
								<td>{l.label}</td>
								<td className="figure">{show(l.unit, l.measured)}</td>
								<td className="figure">{show(l.unit, l.twin)}</td>
								<td className="figure">
									{signed(l.off)}
									{l.outlier && " strays"}
								</td>
								<td className="figure">{l.unseenBy === undefined ? "" : signed(l.unseenBy)}</td>
							</tr>
						))}
					</tbody>
				</table>
			</div>
		</details>
	);
}

/** What was predicted beside what was measured since, and a form to predict more. */
function Predicted({ twin }: { twin: Twin }) {
	const [asking, setAsking] = useState(false);
	const list = twin.predictions ?? [];
	return (
		<section className="mt-8" aria-label="Predictions">
			<div className="flex items-baseline gap-4">
				<h2 className="text-lg">Predictions</h2>
				{!asking && (
					<button type="button" className="btn btn-sm print:hidden" onClick={() => setAsking(true)}>
						Predict
					</button>
				)}
			</div>
			{asking && <Ask twin={twin} done={() => setAsking(false)} />}
			{list.length === 0 && !asking && (
				<p className="mt-1">Nothing yet. Change one thing, and predict its effect.</p>
			)}
			{list.map((p) => (
				<One key={p.id} twin={twin} p={p} />
			))}
		</section>
	);
}

function One({ twin, p }: { twin: Twin; p: Prediction }) {
	const queries = useQueryClient();
	const remove = useMutation({
		mutationFn: () => api.removePrediction(twin.id, p.id),
		onSuccess: () => queries.invalidateQueries({ queryKey: ["twin", twin.id] }),
	});
	const changes = (p.changes ?? []).map((c) => `${c.field} ${c.value}`).join(", ");
	return (
		<div className="mt-4">
			<p>
				<span className="font-medium">{changes ? `With ${changes}` : "As it is"}</span>, predicted{" "}
				{moment(p.created)}. {p.words}{" "}
				<button
					type="button"
					className="btn btn-ghost btn-xs print:hidden"
					onClick={() => window.confirm("Remove this prediction?") && remove.mutate()}
				>
					Remove…
				</button>
			</p>
			{remove.error && <Trouble error={remove.error} />}
			<div className="overflow-x-auto">
				<table className="table table-sm mt-1">
					<thead>
						<tr>
							<th>Load</th>
							<th>Figure</th>
							<th className="figure">Predicted</th>
							<th className="figure">95 % interval</th>
							<th className="figure">Measured</th>
							<th className="figure">Error</th>
						</tr>
					</thead>
					<tbody>
						{p.confronted?.map((c) => (
							<tr key={`${c.name} ${c.figure.figure}`}>
								<td>{c.name}</td>
								<td>{c.figure.label}</td>
								<td className="figure">{show(c.figure.unit, c.figure.value)}</td>
								<td className="figure whitespace-nowrap">
									{show(c.figure.unit, c.figure.low)} to {show(c.figure.unit, c.figure.high)}
								</td>
								<td className="figure">{c.measured === undefined ? "–" : show(c.figure.unit, c.measured)}</td>
								<td className={`figure whitespace-nowrap ${c.state === "outside" ? "text-error" : ""}`}>
									{c.off === undefined
										? "–"
										: `${c.within ? "✓" : c.state === "not shown" ? "? not shown," : "▼ outside,"} ${signed(c.off)}`}
								</td>
							</tr>
						))}
					</tbody>
				</table>
			</div>
		</div>
	);
}

const plain = `stages:
  - load: {block: 8KiB, reads: 70%, depth: 16, span: 20GiB, for: 10s}
`;

/** What is to be another way, under which loads, and where that will be measured. */
function Ask({ twin, done }: { twin: Twin; done: () => void }) {
	const queries = useQueryClient();
	const presets = useQuery({ queryKey: ["presets"], queryFn: api.presets });
	const volumes = useQuery({ queryKey: ["volumes"], queryFn: api.volumes });
	const [changes, setChanges] = useState("");
	const [plan, setPlan] = useState(plain);
	const [volume, setVolume] = useState(twin.volumeId);
	const predict = useMutation({
		mutationFn: async () => {
			const read = await api.readPlan(plan);
			const lines = changes.split("\n").filter((line) => line.trim() !== "");
			return api.predict(twin.id, {
				plan: read.plan,
				volumeId: volume,
				changes: lines.map((line) => {
					const [field, ...value] = line.split("=");
					if (value.length === 0) {
						throw new Error(`“${line}” is not understood; write it like members.count=10`);
					}
					return { field: field.trim(), value: value.join("=").trim() };
				}),
			});
		},
		onSuccess: () => {
			queries.invalidateQueries({ queryKey: ["twin", twin.id] });
			done();
		},
	});
	const submit = (e: FormEvent) => {
		e.preventDefault();
		predict.mutate();
	};
	const list = volumes.data?.volumes ?? [];
	return (
		<form
			onSubmit={submit}
			className="my-3 flex max-w-3xl flex-col gap-3 rounded-box border border-base-300 p-4"
		>
			<label className="flex flex-col gap-1">
				Changes: keys of the array file, one per line
				<textarea
					className="textarea w-full font-mono text-sm"
					name="changes"
					rows={3}
					spellCheck={false}
					placeholder="members.count=10"
					value={changes}
					onChange={(e) => setChanges(e.target.value)}
				/>
			</label>
			<label className="flex flex-col gap-1">
				Start from a preset
				<select
					className="select w-full"
					name="preset"
					value=""
					onChange={(e) =>
						setPlan(presets.data?.presets?.find((p) => p.key === e.target.value)?.text ?? plan)
					}
				>
					<option value="">choose one</option>
					{presets.data?.presets?.map((p) => (
						<option key={p.key} value={p.key}>
							{p.plan.name ?? p.key} ({p.purpose})
						</option>
					))}
				</select>
			</label>
			<label className="flex flex-col gap-1">
				The loads, as a plan
				<textarea
					className="textarea w-full font-mono text-sm"
					name="plan"
					rows={Math.min(Math.max(plan.split("\n").length + 1, 5), 20)}
					spellCheck={false}
					value={plan}
					onChange={(e) => setPlan(e.target.value)}
					required
				/>
			</label>
			<label className="flex flex-col gap-1">
				Compare with measurements of
				<select
					className="select w-full"
					name="volume"
					value={volume}
					onChange={(e) => setVolume(Number(e.target.value))}
				>
					{list.map((v) => (
						<option key={v.id} value={v.id}>
							{v.name}
						</option>
					))}
				</select>
			</label>
			{predict.error && <Trouble error={predict.error} />}
			<div className="flex gap-2">
				<button type="submit" className="btn btn-primary" disabled={predict.isPending}>
					{predict.isPending ? "Simulating…" : "Predict"}
				</button>
				<button type="button" className="btn" onClick={done}>
					Cancel
				</button>
			</div>
		</form>
	);
}
