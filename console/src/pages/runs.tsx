import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { api, isFinal } from "../api/client";
import { moment } from "../parts/format";
import { Empty, StatusWord, Trouble, Unreadable } from "../parts/shell";
import { beside } from "../parts/together";

export function Runs() {
	const [search, setSearch] = useSearchParams();
	const before = Number(search.get("before") ?? 0);
	const runs = useQuery({
		queryKey: ["runs", before],
		queryFn: () => api.runs(before),
		refetchInterval: (q) => (q.state.data?.runs?.some((r) => !isFinal(r.status)) ? 1500 : 10_000),
	});
	if (runs.error) {
		return <Trouble error={runs.error} />;
	}
	if (!runs.data) {
		return null;
	}
	const list = runs.data.runs ?? [];
	if (list.length === 0 && before === 0) {
		return (
			<Empty>
				<p className="text-lg">Nothing was measured yet.</p>
				<Link to="/measure" className="btn btn-primary">
					Measure a volume
				</Link>
			</Empty>
		);
	}
	const last = list[list.length - 1]?.id;
	return (
		<>
			<div className="mb-4 flex items-baseline justify-between">
				<h1 className="text-xl">Runs</h1>
				<Link to="/measure" className="btn btn-primary btn-sm">
					Measure
				</Link>
			</div>
			<Unreadable of={runs.data.unreadable} />
			<div className="overflow-x-auto">
				<table className="table">
					<thead>
						<tr>
							<th className="figure">Run</th>
							<th>Name</th>
							<th>Volume</th>
							<th>Status</th>
							<th className="figure">Measurements</th>
							<th>When</th>
						</tr>
					</thead>
					<tbody>
						{list.map((r) => (
							<tr key={r.id} className="hover:bg-base-200">
								<td className="figure">{r.id}</td>
								<td>
									<Link to={`/runs/${r.id}`} className="link link-hover">
										{r.name}
									</Link>
									{r.joint && <span className="ml-2 text-sm opacity-70">{beside(r)}</span>}
								</td>
								<td>{r.volume.name}</td>
								<td title={r.reason}>
									<StatusWord status={r.status} />
								</td>
								<td className="figure">
									{r.progress.step} of {r.progress.steps}
								</td>
								<td className="whitespace-nowrap">{moment(r.created)}</td>
							</tr>
						))}
					</tbody>
				</table>
			</div>
			<div className="mt-4 flex items-center justify-between text-sm">
				<span>{runs.data.total} runs in all</span>
				<span className="flex gap-2">
					{before > 0 && (
						<button type="button" className="btn btn-sm" onClick={() => setSearch({})}>
							Newest
						</button>
					)}
					{last > 1 && list.length === 50 && (
						<button type="button" className="btn btn-sm" onClick={() => setSearch({ before: String(last) })}>
							Older
						</button>
					)}
				</span>
			</div>
		</>
	);
}
