import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { api, type Schemas } from "../api/client";
import { show } from "../parts/comparison";
import { VolumeChoice } from "../parts/field";
import { share } from "../parts/format";
import { Empty, Trouble } from "../parts/shell";

type Efficiency = Schemas["Efficiency"];
type Mean = Schemas["Mean"];

/** An array against its members: how much of their sum it makes, and which is the odd one. */
export function EfficiencyPage() {
	const [search, setSearch] = useSearchParams();
	const volumes = useQuery({ queryKey: ["volumes"], queryFn: api.volumes });
	const list = volumes.data?.volumes ?? [];
	const array = Number(search.get("array") ?? 0);
	const members = search.getAll("member").map(Number);
	const asked = array > 0 && members.length >= 2;
	const result = useQuery({
		queryKey: ["efficiency", search.toString()],
		queryFn: () =>
			api.efficiency({ array: { volumeId: array }, members: members.map((volumeId) => ({ volumeId })) }),
		enabled: asked,
		retry: false,
	});
	if (volumes.error) {
		return <Trouble error={volumes.error} />;
	}
	if (!volumes.data) {
		return <p role="status">Loading…</p>;
	}
	if (list.length < 3) {
		return (
			<Empty>
				<p>Measure an array and at least two of its members alone, under the same loads.</p>
				<Link to="/measure" className="btn btn-primary">
					Measure
				</Link>
			</Empty>
		);
	}
	const ask = (chosen: number, of: number[]) =>
		setSearch(new URLSearchParams([["array", String(chosen)], ...of.map((m) => ["member", String(m)])]));
	return (
		<>
			<h1 className="mb-2 text-xl">An array against its members</h1>
			<p className="mb-4 max-w-3xl">
				The rate of each member alone, their sum, the part of it that the RAID level leaves, and the share of
				that which the array reaches. Measure all under the same loads: the array at the depth of a member
				times their number, or all at one depth. Members that also raced show whether they get into each
				other’s way.
			</p>
			<div className="mb-6 grid max-w-3xl gap-3 rounded-box border border-base-300 p-4">
				<VolumeChoice
					volumes={[{ ...list[0], id: 0, name: "choose the array", locator: "" }, ...list]}
					value={array}
					change={(id) =>
						ask(
							id,
							members.filter((m) => m !== id),
						)
					}
				/>
				<fieldset>
					<legend className="text-sm">Its members</legend>
					<div className="grid gap-x-6 sm:grid-cols-2">
						{list
							.filter((v) => v.id !== array)
							.map((v) => (
								<label key={v.id} className="flex items-center gap-2 py-0.5">
									<input
										type="checkbox"
										className="checkbox checkbox-sm"
										checked={members.includes(v.id)}
										onChange={(e) =>
											ask(array, e.target.checked ? [...members, v.id] : members.filter((m) => m !== v.id))
										}
									/>
									{v.name}
								</label>
							))}
					</div>
				</fieldset>
			</div>
			{!asked && <p>Choose the array and at least two of its members.</p>}
			{asked && result.error && <Trouble error={result.error} />}
			{asked && result.isLoading && <p role="status">Comparing…</p>}
			{asked && result.data && <Shown e={result.data} />}
		</>
	);
}

/** A share with half of its interval. */
function within(m: Mean): string {
	return m.known ? `${share(m.mean)} ± ${share(((m.high ?? 0) - (m.low ?? 0)) / 2)}` : share(m.mean);
}

function Shown({ e }: { e: Efficiency }) {
	return (
		<>
			{e.words?.map((words, i) => (
				<p key={words} className={`max-w-3xl ${i === 0 ? "mb-2 text-lg" : "mb-1"}`}>
					{words}
				</p>
			))}
			{(e.points ?? []).length > 0 && (
				<div className="mt-4 overflow-x-auto">
					<table className="table table-sm">
						<thead>
							<tr>
								<th>Load</th>
								{e.members?.map((m) => (
									<th key={m} className="figure">
										{m}
									</th>
								))}
								<th className="figure">Sum</th>
								<th className="figure">Level leaves</th>
								<th className="figure">Array</th>
								<th className="figure">Efficiency</th>
								<th className="figure">At once</th>
							</tr>
						</thead>
						<tbody>
							{e.points?.map((p) => (
								<tr key={p.title}>
									<th scope="row" className="font-normal" title={p.load}>
										{p.title}
									</th>
									{p.alone?.map((m, i) => (
										<td key={e.members?.[i]} className="figure whitespace-nowrap">
											{show(p.unit, m.mean)}
										</td>
									))}
									<td className="figure whitespace-nowrap">{show(p.unit, p.sum.mean)}</td>
									<td className="figure">{p.leaves ? share(p.leaves) : "not known"}</td>
									<td className="figure whitespace-nowrap">{show(p.unit, p.array.mean)}</td>
									<td className="figure font-medium whitespace-nowrap">{within(p.efficiency)}</td>
									<td className="figure whitespace-nowrap">{p.atOnce ? within(p.atOnce) : "–"}</td>
								</tr>
							))}
						</tbody>
					</table>
				</div>
			)}
			{(e.leftOut ?? []).length > 0 && (
				<details className="mt-4">
					<summary className="cursor-pointer font-medium">What was left out</summary>
					<ul className="mt-2 list-disc pl-5 text-sm">
						{e.leftOut?.map((words) => (
							<li key={words}>{words}</li>
						))}
					</ul>
				</details>
			)}
		</>
	);
}
