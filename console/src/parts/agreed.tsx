import type { Measurement } from "../api/client";

type Session = NonNullable<NonNullable<Measurement["summary"]>["sessions"]>[number];

/** How many sessions led to a portal. */
function heading(s: Session): string {
	return `${s.count} ${s.count === 1 ? "session" : "sessions"} with ${s.over}`;
}

/** Sessions that agreed on the same, together. */
function alike(sessions: Session[]): Session[][] {
	const groups = new Map<string, Session[]>();
	for (const s of sessions) {
		const keys = JSON.stringify(s.keys);
		groups.set(keys, [...(groups.get(keys) ?? []), s]);
	}
	return [...groups.values()];
}

/** What host and target agreed on for the sessions of a measurement, key by key. */
export function AgreedTable({ m }: { m: Measurement }) {
	const sessions = m.summary?.sessions ?? [];
	if (sessions.length === 0) {
		return null;
	}
	const cut = (sessions[0].keys ?? []).filter((k) => k.cut === "target").length;
	return (
		<details className="collapse collapse-arrow mt-2 border border-base-300">
			<summary className="collapse-title text-sm font-semibold">
				Negotiated session: {sessions.map(heading).join(", ")}
				{cut > 0 && `; ${cut} ${cut === 1 ? "key was" : "keys were"} not taken as offered`}
			</summary>
			<div className="collapse-content overflow-x-auto">
				{alike(sessions).map((same) => (
					<table key={JSON.stringify(same[0])} className="table table-sm mb-4">
						<caption className="text-left text-sm">{same.map(heading).join(", ")}</caption>
						<thead>
							<tr>
								<th>key</th>
								<th>offered</th>
								<th>answered</th>
								<th>in effect</th>
								<th>not taken by</th>
							</tr>
						</thead>
						<tbody>
							{(same[0].keys ?? []).map((k) => (
								<tr key={k.key}>
									<td>{k.key}</td>
									<td>{k.offered}</td>
									<td>{k.answered}</td>
									<td className="font-semibold">{k.inEffect}</td>
									<td>{k.cut && <span className="badge badge-warning badge-sm">{k.cut}</span>}</td>
								</tr>
							))}
						</tbody>
					</table>
				))}
			</div>
		</details>
	);
}
