import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { api, type Search } from "../api/client";
import { save } from "../parts/chart";
import { Judged } from "../parts/decision";
import { moment, price } from "../parts/format";
import { StatusWord, Trouble, Unreadable } from "../parts/shell";

const example = `name: What the dealer offers
levels: [raid10, raid5, raid6]
drives:
  - {name: disk of 4 TB, price: 160, counts: [4, 6, 8, 12], members: {medium: hard disk, capacity: 4TB}}
  - {name: SSD of 1.92 TB, price: 330, counts: [4, 6, 8], members: {medium: ssd, capacity: 1920GB}}
caches:
  - {name: 4 GiB with a battery, price: 700, cache: {size: 4GiB, mode: write-back, protected: true}}
controllers:
  - {name: controller, price: 900, controller: {operations: 100k, throughput: 1.2GB/s}}
links:
  - {name: ten gigabits, price: 250, link: {rate: 1250MB/s, roundTrip: 100us}}
`;

/** A need and a list of parts, to look for what to buy; and the searches so far. */
export function Buy() {
	const [query] = useSearchParams();
	const navigate = useNavigate();
	const queries = useQueryClient();
	const needs = useQuery({ queryKey: ["needs"], queryFn: api.needs });
	const searches = useQuery({ queryKey: ["searches"], queryFn: api.searches, refetchInterval: 3000 });
	const [need, setNeed] = useState(query.get("need") ?? "");
	const [parts, setParts] = useState(example);
	const start = useMutation({
		mutationFn: () => api.startSearch({ needId: Number(need), parts }),
		onSuccess: (begun) => {
			queries.invalidateQueries({ queryKey: ["searches"] });
			navigate(`/buy/${begun.id}`);
		},
	});
	if (needs.error || searches.error) {
		return <Trouble error={needs.error ?? searches.error} />;
	}
	const list = needs.data?.needs ?? [];
	const submit = (e: FormEvent) => {
		e.preventDefault();
		start.mutate();
	};
	return (
		<>
			<h1 className="mb-2 text-xl">What to buy</h1>
			<p className="mb-4 max-w-3xl">
				Parts are combined into designs in every sensible way. Designs that cannot meet the need are excluded
				by arithmetic. The others are simulated: all of them briefly, the promising ones in full.
			</p>
			{needs.data && list.length === 0 ? (
				<p>
					A search needs a need sheet with a load for every use.{" "}
					<Link to="/decide" className="link">
						Write one
					</Link>
				</p>
			) : (
				<form onSubmit={submit} className="mb-6 max-w-3xl rounded-box border border-base-300 p-4">
					<label className="mb-3 flex flex-col gap-1">
						Need
						<select
							className="select w-full"
							name="need"
							value={need}
							onChange={(e) => setNeed(e.target.value)}
							required
						>
							<option value="">choose one</option>
							{list.map((n) => (
								<option key={n.id} value={n.id}>
									{n.name}
								</option>
							))}
						</select>
					</label>
					<label className="flex flex-col gap-1">
						Parts and their prices
						<textarea
							className="textarea w-full font-mono text-sm"
							rows={16}
							spellCheck={false}
							value={parts}
							onChange={(e) => setParts(e.target.value)}
							required
						/>
					</label>
					{start.error && <Trouble error={start.error} />}
					<button type="submit" className="btn btn-primary mt-3" disabled={!need || start.isPending}>
						Look for it
					</button>
				</form>
			)}
			<Unreadable of={searches.data?.unreadable} />
			<Searches list={searches.data?.searches ?? []} />
		</>
	);
}

function Searches({ list }: { list: Search[] }) {
	const queries = useQueryClient();
	const remove = useMutation({
		mutationFn: api.removeSearch,
		onSuccess: () => queries.invalidateQueries({ queryKey: ["searches"] }),
	});
	if (list.length === 0) {
		return null;
	}
	return (
		<section aria-label="Searches">
			<h2 className="mb-2 text-lg">Searches so far</h2>
			{remove.error && <Trouble error={remove.error} />}
			<ul className="flex flex-col gap-1">
				{list.map((s) => (
					<li key={s.id}>
						<StatusWord status={s.status} />{" "}
						<Link to={`/buy/${s.id}`} className="link">
							{s.need}, from {s.parts}
						</Link>{" "}
						<span className="text-sm opacity-80">{moment(s.started)}</span>{" "}
						{s.status !== "running" && (
							<button
								type="button"
								className="btn btn-ghost btn-xs"
								aria-label={`Remove ${s.need}, from ${s.parts}`}
								onClick={() => window.confirm("Remove the result of this search?") && remove.mutate(s.id)}
							>
								Remove…
							</button>
						)}
					</li>
				))}
			</ul>
		</section>
	);
}

/** One search: how far it is, or what it came to. */
export function SearchPage() {
	const id = Number(useParams().id ?? 0);
	const queries = useQueryClient();
	const search = useQuery({
		queryKey: ["search", id],
		queryFn: () => api.search(id),
		refetchInterval: (q) => (q.state.data?.status === "running" ? 700 : false),
	});
	const [error, setError] = useState<unknown>();
	const stop = useMutation({
		mutationFn: () => api.stopSearch(id),
		onSuccess: () => queries.invalidateQueries({ queryKey: ["search", id] }),
	});
	if (search.error) {
		return (
			<>
				<Trouble error={search.error} />
				<Link to="/buy" className="btn btn-sm">
					Search
				</Link>
			</>
		);
	}
	const s = search.data;
	if (!s) {
		return <p role="status">Loading…</p>;
	}
	return (
		<>
			<div className="flex flex-wrap items-baseline gap-x-4">
				<h1 className="text-xl">
					{s.need}, from {s.parts}
				</h1>
				<StatusWord status={s.status} />
				<span className="ml-auto flex gap-2 print:hidden">
					{s.status === "running" && (
						<button
							type="button"
							className="btn btn-sm"
							onClick={() => stop.mutate()}
							disabled={stop.isPending}
						>
							Stop
						</button>
					)}
					{s.chosen && (
						<button
							type="button"
							className="btn btn-sm"
							onClick={() => save(`/searches/${id}/report`, "heron-what-to-buy.html").catch(setError)}
						>
							Report
						</button>
					)}
					<Link to="/buy" className="btn btn-sm">
						Another
					</Link>
				</span>
			</div>
			{error !== undefined && <Trouble error={error} />}
			{stop.error && <Trouble error={stop.error} />}
			{s.status === "failed" && <Trouble error={s.reason} />}
			{s.status === "stopped" && <p className="my-3">It was stopped; there is no result.</p>}
			{s.status === "running" && <HowFar s={s} />}
			{s.chosen && <Chosen chosen={s.chosen} />}
		</>
	);
}

function HowFar({ s }: { s: Search }) {
	const p = s.progress;
	return (
		<div className="my-4 max-w-3xl" role="status">
			<progress className="progress progress-primary w-full" value={p.done} max={Math.max(p.of, 1)} />
			<p>
				{s.waiting
					? "It waits for a run to end, so that it does not disturb the measurement."
					: `${p.done} of ${p.of} designs ${p.round}.`}
			</p>
			{p.meeting > 0 && (
				<p className="mt-1">
					{p.meeting} meet the need so far; the cheapest: {p.cheapest}.
				</p>
			)}
		</div>
	);
}

function Chosen({ chosen }: { chosen: NonNullable<Search["chosen"]> }) {
	const best = chosen.finalists?.[0];
	const meets = chosen.judged.setups?.[0]?.outcome === "meets";
	return (
		<>
			<p className="mt-2 text-sm opacity-80">
				{chosen.designs} designs, of which {chosen.measured} were simulated in {chosen.runs} measurements;
				seed {chosen.seed}. All figures are simulated from the data in “{chosen.parts}”.
			</p>
			<Judged j={chosen.judged} />
			<div className="mt-8 grid items-start gap-8 lg:grid-cols-2">
				{best && meets && (
					<section aria-label="Bill">
						<h2 className="text-lg">{best.name}</h2>
						<table className="table table-sm mt-2">
							<thead>
								<tr>
									<th className="figure">Number</th>
									<th>Part</th>
									<th className="figure">Price</th>
								</tr>
							</thead>
							<tbody>
								{best.bill?.map((line) => (
									<tr key={line.name}>
										<td className="figure">{line.number}</td>
										<td>{line.name}</td>
										<td className="figure">{price(line.price)}</td>
									</tr>
								))}
								<tr className="font-medium">
									<td />
									<td>together</td>
									<td className="figure">{price(best.price)}</td>
								</tr>
							</tbody>
						</table>
					</section>
				)}
				<section aria-label="Why others fail">
					<h2 className="text-lg">Why others fail</h2>
					<ul className="mt-2 list-disc pl-5 text-sm">
						{chosen.cheaper?.map((r) => (
							<li key={r.words}>
								{r.count} that cost less {r.words} <span className="opacity-80">(such as {r.example})</span>
							</li>
						))}
						{chosen.out?.map((r) => (
							<li key={r.words}>
								{r.count} are out without a simulation: {r.words}
							</li>
						))}
					</ul>
				</section>
			</div>
			{(chosen.finalists ?? []).length > 0 && (
				<details className="mt-8">
					<summary className="cursor-pointer font-medium">The designs as array files</summary>
					{chosen.finalists?.map((d) => (
						<pre key={d.name} className="mt-2 overflow-x-auto rounded-box border border-base-300 p-3 text-sm">
							{d.text}
						</pre>
					))}
				</details>
			)}
		</>
	);
}
