import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { api } from "../api/client";
import { download } from "../parts/chart";
import { Judged } from "../parts/decision";
import { moment } from "../parts/format";
import { Trouble, Unreadable } from "../parts/shell";

/** The kept need sheets with what comes of them, and a form to write another. */
export function Decide() {
	const queries = useQueryClient();
	const kept = useQuery({ queryKey: ["needs"], queryFn: api.needs });
	const judged = useQuery({
		queryKey: ["verdicts"],
		queryFn: () => api.judge({}),
		enabled: (kept.data?.needs ?? []).length > 0,
	});
	const remove = useMutation({
		mutationFn: api.removeNeed,
		onSuccess: () => queries.invalidateQueries({ queryKey: ["needs"] }),
	});
	const [writing, setWriting] = useState(false);
	if (kept.error) {
		return <Trouble error={kept.error} />;
	}
	if (!kept.data) {
		return <p role="status">Loading…</p>;
	}
	const list = kept.data.needs ?? [];
	const of = (id?: number) => judged.data?.judged?.find((j) => j.needId === id);
	return (
		<>
			<div className="mb-4 flex items-baseline">
				<h1 className="text-xl">Decide</h1>
				<span className="ml-auto flex gap-2">
					<Link to="/twins" className="btn btn-sm">
						Twins
					</Link>
					<Link to="/buy" className="btn btn-sm">
						What to buy
					</Link>
					{list.length > 0 && !writing && (
						<button type="button" className="btn btn-sm" onClick={() => setWriting(true)}>
							Write a need sheet
						</button>
					)}
				</span>
			</div>
			{list.length === 0 && (
				<p className="mb-4 max-w-3xl">
					A need sheet lists what uses require of one storage: limits for figures, capacity, failures to
					survive, a budget. Setups are judged by it. There is none yet; write one below.
				</p>
			)}
			{list.length > 0 && (
				<div className="mb-6 overflow-x-auto">
					<table className="table">
						<thead>
							<tr>
								<th>Need</th>
								<th>What to do</th>
								<th>Changed</th>
								<th />
							</tr>
						</thead>
						<tbody>
							{list.map((n) => (
								<tr key={n.id}>
									<td>
										<Link className="link" to={`/decide/${n.id}`}>
											{n.name}
										</Link>
									</td>
									<td>{of(n.id)?.error ?? of(n.id)?.words ?? (judged.isLoading ? "Judging…" : "")}</td>
									<td className="whitespace-nowrap">{moment(n.changed)}</td>
									<td className="text-right">
										<button
											type="button"
											className="btn btn-ghost btn-sm"
											aria-label={`Remove ${n.name}`}
											onClick={() =>
												window.confirm(`Remove the need “${n.name}”? Measurements stay.`) &&
												n.id &&
												remove.mutate(n.id)
											}
										>
											Remove…
										</button>
									</td>
								</tr>
							))}
						</tbody>
					</table>
				</div>
			)}
			<Unreadable of={kept.data.unreadable} />
			{(judged.error || remove.error) && <Trouble error={judged.error ?? remove.error} />}
			{(writing || list.length === 0) && (
				<Sheet text={example} cancel={list.length > 0 ? () => setWriting(false) : undefined} />
			)}
		</>
	);
}

const example = `name: What the office needs
capacity: 4TB
survives: [any member, a power cut]
uses:
  - name: ledger
    load: {block: 8KiB, reads: 70%, depth: 16, span: 20GiB}
    users: 40
    bounds: {p99: at most 20ms, iops: at least 50 each}
`;

/** A need sheet to be written: a new one, or in the place of a kept one. */
function Sheet(props: { text: string; id?: number; cancel?: () => void }) {
	const navigate = useNavigate();
	const queries = useQueryClient();
	const [text, setText] = useState(props.text);
	const keep = useMutation({
		mutationFn: () => (props.id ? api.changeNeed(props.id, text) : api.keepNeed(text)),
		onSuccess: (kept) => {
			for (const key of ["needs", "need", "verdicts"]) {
				queries.invalidateQueries({ queryKey: [key] });
			}
			props.cancel?.();
			navigate(`/decide/${kept.id}`);
		},
	});
	const submit = (e: FormEvent) => {
		e.preventDefault();
		keep.mutate();
	};
	return (
		<form onSubmit={submit} className="mb-6 max-w-3xl rounded-box border border-base-300 p-4">
			<label className="flex flex-col gap-1">
				Need sheet
				<textarea
					className="textarea w-full font-mono text-sm"
					rows={Math.min(Math.max(text.split("\n").length + 1, 10), 30)}
					spellCheck={false}
					value={text}
					onChange={(e) => setText(e.target.value)}
					required
				/>
			</label>
			{keep.error && <Trouble error={keep.error} />}
			<div className="mt-3 flex gap-2">
				<button type="submit" className="btn btn-primary" disabled={keep.isPending}>
					{props.id ? "Replace this one" : "Keep it and judge"}
				</button>
				{props.cancel && (
					<button type="button" className="btn" onClick={props.cancel}>
						Cancel
					</button>
				)}
			</div>
		</form>
	);
}

/** One need: what to do, who meets what, at what price, and what is not shown. */
export function DecisionPage() {
	const id = Number(useParams().id ?? 0);
	const [search, setSearch] = useSearchParams();
	const chosen = search.getAll("volume").map(Number);
	const asked = { needIds: [id], volumeIds: chosen.length > 0 ? chosen : undefined };
	const judged = useQuery({ queryKey: ["verdicts", id, search.toString()], queryFn: () => api.judge(asked) });
	const sheet = useQuery({ queryKey: ["need", id], queryFn: () => api.need(id) });
	const volumes = useQuery({ queryKey: ["volumes"], queryFn: api.volumes });
	const [editing, setEditing] = useState(false);
	const [error, setError] = useState<unknown>();
	if (judged.error || sheet.error) {
		return (
			<>
				<Trouble error={sheet.error ?? judged.error} />
				<Link to="/decide" className="btn btn-sm">
					Show all needs
				</Link>
			</>
		);
	}
	const j = judged.data?.judged?.[0];
	if (!j || !sheet.data) {
		return <p role="status">Judging…</p>;
	}
	const report = async () =>
		download(URL.createObjectURL(await api.decisionReport(asked)), "heron-decision.html");
	const choose = (volume: number, on: boolean) => {
		const all = volumes.data?.volumes ?? [];
		const now =
			chosen.length > 0
				? chosen
				: all.filter((v) => j.setups?.some((s) => s.name === v.name)).map((v) => v.id);
		const next = on ? [...now, volume] : now.filter((v) => v !== volume);
		setSearch(new URLSearchParams(next.map((v) => ["volume", String(v)])));
	};
	return (
		<>
			<div className="flex flex-wrap items-baseline gap-x-4">
				<h1 className="text-xl">{j.need.name}</h1>
				<span className="ml-auto flex gap-2 print:hidden">
					<Link to={`/buy?need=${id}`} className="btn btn-sm">
						What to buy
					</Link>
					<button
						type="button"
						className="btn btn-sm"
						onClick={() => setEditing(!editing)}
						aria-expanded={editing}
					>
						Sheet
					</button>
					<button type="button" className="btn btn-sm" onClick={() => report().catch(setError)}>
						Report
					</button>
				</span>
			</div>
			{j.need.why && <p className="mb-2 text-sm opacity-80">{j.need.why}</p>}
			{error !== undefined && <Trouble error={error} />}
			{editing && <Sheet text={sheet.data.text} id={id} cancel={() => setEditing(false)} />}
			{j.error ? <Trouble error={`This sheet cannot be read: ${j.error}`} /> : <Judged j={j} />}
			<details className="mt-8 print:hidden" open={(j.setups ?? []).length === 0}>
				<summary className="cursor-pointer font-medium">Which setups are judged</summary>
				<fieldset className="mt-2 grid gap-x-6 sm:grid-cols-2 lg:grid-cols-3">
					<legend className="sr-only">Setups</legend>
					{(volumes.data?.volumes ?? []).map((v) => (
						<label key={v.id} className="flex items-center gap-2 py-0.5">
							<input
								type="checkbox"
								className="checkbox checkbox-sm"
								checked={
									chosen.length > 0 ? chosen.includes(v.id) : (j.setups ?? []).some((s) => s.name === v.name)
								}
								onChange={(e) => choose(v.id, e.target.checked)}
							/>
							{v.name}
						</label>
					))}
				</fieldset>
			</details>
			{(j.untouched ?? []).length > 0 && (
				<p className="mt-2 text-sm opacity-80">No use was measured on {j.untouched?.join(", ")}.</p>
			)}
			{judged.data?.leftOut?.map((words) => (
				<p key={words} className="mt-2 text-sm opacity-80">
					Left out: {words}.
				</p>
			))}
		</>
	);
}
