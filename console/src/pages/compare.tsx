import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { api, type Candidate, type Compared, type NewComparison } from "../api/client";
import { Answers } from "../parts/answers";
import { download, save } from "../parts/chart";
import { GainsChart, PointView } from "../parts/comparison";
import { moment, share } from "../parts/format";
import { Empty, Trouble } from "../parts/shell";
import { Verdict } from "../parts/verdict";

/** The kept comparisons, and a form to ask a new question. */
export function Comparisons() {
	const queries = useQueryClient();
	const kept = useQuery({ queryKey: ["comparisons"], queryFn: api.comparisons });
	const runs = useQuery({ queryKey: ["runs", 0], queryFn: () => api.runs(0) });
	const remove = useMutation({
		mutationFn: api.removeComparison,
		onSuccess: () => queries.invalidateQueries({ queryKey: ["comparisons"] }),
	});
	if (kept.error || runs.error) {
		return <Trouble error={kept.error ?? runs.error} />;
	}
	const list = kept.data?.comparisons ?? [];
	const finished = (runs.data?.runs ?? []).filter((r) => r.status === "finished" || r.status === "stopped");
	if (runs.data && finished.length < 2) {
		return (
			<Empty>
				<p className="text-lg">Comparing needs two finished runs.</p>
				<Link to="/measure" className="btn btn-primary">
					Measure
				</Link>
			</Empty>
		);
	}
	return (
		<>
			<div className="mb-4 flex items-baseline">
				<h1 className="text-xl">Compare</h1>
				<Link to="/efficiency" className="btn btn-sm ml-auto">
					An array against its members
				</Link>
			</div>
			{list.length > 0 && (
				<table className="table mb-8">
					<thead>
						<tr>
							<th>Question</th>
							<th>Baseline</th>
							<th>Candidates</th>
							<th>Kept</th>
							<th />
						</tr>
					</thead>
					<tbody>
						{list.map((c) => (
							<tr key={c.id}>
								<td>
									<Link className="link" to={`/compare/${c.id}`}>
										{c.name}
									</Link>
								</td>
								<td>{c.baseline.name || `run ${c.baseline.runs?.join(" + ")}`}</td>
								<td>{c.candidates?.map((g) => g.name || `run ${g.runs?.join(" + ")}`).join(", ")}</td>
								<td className="whitespace-nowrap">{moment(c.created)}</td>
								<td className="text-right">
									<button
										type="button"
										className="btn btn-ghost btn-sm"
										aria-label={`Remove ${c.name}`}
										onClick={() =>
											window.confirm(`Remove the comparison “${c.name}”? Its runs stay.`) &&
											c.id &&
											remove.mutate(c.id)
										}
									>
										Remove…
									</button>
								</td>
							</tr>
						))}
					</tbody>
				</table>
			)}
			{remove.error && <Trouble error={remove.error} />}
			<Ask runs={finished.map((r) => ({ id: r.id, words: `${r.id}: ${r.name} on ${r.volume.name}` }))} />
		</>
	);
}

/** Chooses a baseline and up to eight candidates. */
function Ask({ runs }: { runs: { id: number; words: string }[] }) {
	const navigate = useNavigate();
	const [search] = useSearchParams();
	const [base, setBase] = useState(search.get("base") ?? "");
	const [others, setOthers] = useState<number[]>([]);
	const [noise, setNoise] = useState("5");
	const submit = (e: FormEvent) => {
		e.preventDefault();
		const query = new URLSearchParams({ base, noise: String(Number(noise) / 100) });
		for (const id of others) {
			query.append("with", String(id));
		}
		navigate(`/compare/view?${query}`);
	};
	return (
		<form onSubmit={submit} className="max-w-3xl rounded-box border border-base-300 p-4">
			<h2 className="mb-3 font-medium">Is one setup better than another?</h2>
			<div className="grid gap-4 sm:grid-cols-[1fr_8rem]">
				<label className="flex flex-col gap-1 text-sm">
					Baseline
					<select
						className="select w-full"
						name="base"
						value={base}
						onChange={(e) => setBase(e.target.value)}
						required
					>
						<option value="">choose a run</option>
						{runs.map((r) => (
							<option key={r.id} value={r.id}>
								{r.words}
							</option>
						))}
					</select>
				</label>
				<label className="flex flex-col gap-1 text-sm">
					Smallest difference that matters, %
					<input
						className="input w-full"
						type="number"
						min="0.1"
						max="100"
						step="0.1"
						value={noise}
						onChange={(e) => setNoise(e.target.value)}
						required
					/>
				</label>
			</div>
			<fieldset className="mt-3">
				<legend className="text-sm">Candidates, at most eight</legend>
				<div className="max-h-56 overflow-auto rounded-field border border-base-300 p-2">
					{runs
						.filter((r) => String(r.id) !== base)
						.map((r) => (
							<label key={r.id} className="flex items-center gap-2 py-0.5">
								<input
									type="checkbox"
									className="checkbox checkbox-sm"
									checked={others.includes(r.id)}
									disabled={!others.includes(r.id) && others.length >= 8}
									onChange={(e) =>
										setOthers(e.target.checked ? [...others, r.id] : others.filter((o) => o !== r.id))
									}
								/>
								{r.words}
							</label>
						))}
				</div>
			</fieldset>
			<button type="submit" className="btn btn-primary mt-3" disabled={!base || others.length === 0}>
				Compare
			</button>
		</form>
	);
}

/** What the address asks to compare, when the comparison is not a kept one. */
function asked(search: URLSearchParams): NewComparison {
	const runs = (text: string) => text.split(/[+ ]/).map(Number);
	return {
		baseline: { runs: runs(search.get("base") ?? "") },
		candidates: search.getAll("with").map((text) => ({ runs: runs(text) })),
		noise: Number(search.get("noise") ?? 0.05),
		weights: search.getAll("weigh").map((text) => {
			const at = text.lastIndexOf("=");
			return { stage: text.slice(0, at), weight: Number(text.slice(at + 1)) };
		}),
	};
}

/** How much each stage counts in an index; a new question is asked with them. */
function Weights({ compared }: { compared: Compared }) {
	const navigate = useNavigate();
	const stages = [...new Set((compared.result.points ?? []).map((p) => p.stage))];
	const [weights, setWeights] = useState<Record<string, string>>(
		Object.fromEntries((compared.weights ?? []).map((w) => [w.stage, String(w.weight)])),
	);
	const set = Object.entries(weights).filter(([, w]) => w.trim() !== "");
	const submit = (e: FormEvent) => {
		e.preventDefault();
		const query = new URLSearchParams({
			base: compared.baseline.runs?.join("+") ?? "",
			noise: String(compared.noise),
		});
		for (const group of compared.candidates ?? []) {
			query.append("with", group.runs?.join("+") ?? "");
		}
		for (const [stage, weight] of set) {
			query.append("weigh", `${stage}=${weight}`);
		}
		navigate(`/compare/view?${query}`);
	};
	return (
		<details className="mt-3 print:hidden" open={(compared.weights ?? []).length > 0}>
			<summary className="cursor-pointer text-sm font-medium">Weigh the stages</summary>
			<form onSubmit={submit} className="mt-2 max-w-md">
				{stages.map((stage) => (
					<label key={stage} className="flex items-center justify-between gap-4 py-0.5 text-sm">
						{stage}
						<input
							className="input input-sm w-24"
							type="number"
							min="0.001"
							step="any"
							value={weights[stage] ?? ""}
							placeholder="not"
							onChange={(e) => setWeights({ ...weights, [stage]: e.target.value })}
						/>
					</label>
				))}
				<button type="submit" className="btn btn-sm mt-2" disabled={set.length === 0}>
					Weigh
				</button>
			</form>
		</details>
	);
}

/** One comparison: what got better and what worse, then how it is known. */
export function ComparisonPage() {
	const id = Number(useParams().id ?? 0);
	const [search] = useSearchParams();
	const request = asked(search);
	const compared = useQuery({
		queryKey: ["comparison", id, search.toString()],
		queryFn: () => (id > 0 ? api.comparison(id) : api.compare(request)),
	});
	const [candidate, setCandidate] = useState(0);
	const [point, setPoint] = useState<number>();
	const [error, setError] = useState<unknown>();
	if (compared.error) {
		return (
			<>
				<Trouble error={compared.error} />
				<Link to="/compare" className="btn btn-sm">
					Ask another question
				</Link>
			</>
		);
	}
	if (!compared.data) {
		return <p role="status">Comparing…</p>;
	}
	const c = compared.data;
	const candidates = c.result.candidates ?? [];
	const shown = candidates[candidate] ?? candidates[0];
	const at = point ?? shown.parts?.[0]?.point ?? 0;
	const match = c.result.points?.[at];
	return (
		<>
			<div className="flex flex-wrap items-baseline gap-x-4">
				<h1 className="text-xl">{c.name}</h1>
				<span className="ml-auto flex gap-2 print:hidden">
					{id > 0 ? (
						<button
							type="button"
							className="btn btn-sm"
							onClick={() => save(`/comparisons/${id}/report`, "heron-comparison.html").catch(setError)}
						>
							Report
						</button>
					) : (
						<Keep request={request} name={c.name} />
					)}
				</span>
			</div>
			{error !== undefined && <Trouble error={error} />}
			<p className="mb-4 text-sm opacity-80">
				Against {c.result.baseline.name}; differences below {share(c.result.noise)} do not matter
			</p>
			<ol className="mb-6 flex flex-col gap-3">
				{candidates.map((k, n) => (
					<li
						key={k.name}
						className={`rounded-box border p-3 ${n === candidate && candidates.length > 1 ? "border-primary" : "border-base-300"}`}
					>
						<button
							type="button"
							className="font-medium hover:underline"
							aria-pressed={n === candidate}
							onClick={() => {
								setCandidate(n);
								setPoint(undefined);
							}}
						>
							{k.name}
						</button>
						<p className="mt-1">{k.words}</p>
						{k.paired && <p className="mt-1 text-sm opacity-80">{k.paired}</p>}
						<p className="mt-1 text-sm opacity-80">Changed: {k.difference.words}</p>
						{k.difference.caution && <p className="text-sm text-accent">{k.difference.caution}</p>}
						{k.caution && <p className="text-sm text-accent">{k.caution}</p>}
						{k.handling && <p className="text-sm text-accent">{k.handling}</p>}
					</li>
				))}
			</ol>
			{c.result.baseline.caution && <p className="mt-2 text-sm text-accent">{c.result.baseline.caution}</p>}
			{c.result.advice && <p className="mt-2 text-sm">{c.result.advice}</p>}
			{shown && <Gains compared={c} candidate={shown} number={candidate} at={at} choose={setPoint} />}
			<Answers answers={c.answers ?? []} />
			{match && <PointView key={match.title} compared={c} match={match} candidate={candidate} />}
			{(c.result.unmatched ?? []).length > 0 && (
				<section className="mt-8" aria-label="Without a counterpart">
					<h2 className="text-lg">Without a counterpart</h2>
					<ul className="list-disc pl-5">
						{c.result.unmatched?.map((u) => (
							<li key={u.side + u.title + u.reason}>
								{u.side}, {u.title}: {u.reason}
							</li>
						))}
					</ul>
				</section>
			)}
		</>
	);
}

/** Writes a comparison that is not kept as a report, or keeps it under a name. */
function Keep({ request, name }: { request: NewComparison; name: string }) {
	const navigate = useNavigate();
	const queries = useQueryClient();
	const [error, setError] = useState<unknown>();
	const report = async () => {
		const page = await api.comparisonReport(request);
		download(URL.createObjectURL(page), "heron-comparison.html");
	};
	const keep = async () => {
		const chosen = window.prompt("Store this comparison as", name.slice(0, 120));
		if (chosen) {
			const kept = await api.compare({ ...request, name: chosen, keep: true });
			queries.invalidateQueries({ queryKey: ["comparisons"] });
			navigate(`/compare/${kept.id}`);
		}
	};
	return (
		<>
			<button type="button" className="btn btn-sm" onClick={() => report().catch(setError)}>
				Report
			</button>
			<button type="button" className="btn btn-sm" onClick={() => keep().catch(setError)}>
				Keep…
			</button>
			{error !== undefined && <Trouble error={error} />}
		</>
	);
}

/** The gains and losses of one candidate, drawn and as a table. */
function Gains(props: {
	compared: Compared;
	candidate: Candidate;
	number: number;
	at: number;
	choose: (point: number) => void;
}) {
	const { compared, candidate, number, at, choose } = props;
	return (
		<section aria-label="Gains and losses">
			<h2 className="text-lg">Gains and losses of {candidate.name}</h2>
			<div className="grid items-start gap-x-8 lg:grid-cols-[1fr_1.1fr]">
				<GainsChart compared={compared} candidate={candidate} number={number} />
				<div className="overflow-x-auto">
					<table className="table table-sm">
						<thead>
							<tr>
								<th>Stage</th>
								<th>Change</th>
								<th className="figure">Gain</th>
								<th>Verdict</th>
							</tr>
						</thead>
						<tbody>
							{candidate.parts?.map((p) => (
								<tr key={p.title} className={p.point === at ? "bg-base-200" : "hover:bg-base-200"}>
									<td>
										<button
											type="button"
											className="link link-hover text-left"
											aria-pressed={p.point === at}
											onClick={() => choose(p.point)}
										>
											{p.title}
										</button>
										{p.unreliable && <span className="ml-1 text-error">unreliable</span>}
									</td>
									<td>{p.words}</td>
									<td className="figure">{p.gain ? `× ${p.gain.toPrecision(3)}` : ""}</td>
									<td>
										<Verdict word={p.verdict} />
									</td>
								</tr>
							))}
						</tbody>
					</table>
					{candidate.together && <p className="mt-1 text-sm opacity-80">{candidate.together}</p>}
					{candidate.weighed && <p className="mt-2">With the weights: {candidate.weighed.words}</p>}
					<Weights key={compared.name} compared={compared} />
				</div>
			</div>
		</section>
	);
}
