import type { Check, Layer, Setup } from "../api/client";

const looks: Record<string, [string, string]> = {
	passed: ["✓", "text-secondary"],
	caution: ["!", "text-accent"],
	failed: ["✕", "text-error"],
	"could not look": ["?", ""],
};

/** The checks before a run: each with its result, its reason and the next step. */
export function Checks({ checks }: { checks: Check[] }) {
	const order = ["failed", "caution", "could not look", "passed"];
	const sorted = [...checks].sort((a, b) => order.indexOf(a.result) - order.indexOf(b.result));
	return (
		<table className="table table-sm">
			<thead>
				<tr>
					<th>Result</th>
					<th>Check</th>
					<th>What was found</th>
				</tr>
			</thead>
			<tbody>
				{sorted.map((c) => (
					<tr key={c.name + c.sentence}>
						<td className={`whitespace-nowrap align-top ${looks[c.result]?.[1] ?? ""}`}>
							<span aria-hidden="true">{looks[c.result]?.[0]}</span> {c.result}
						</td>
						<td className="whitespace-nowrap align-top">{c.name}</td>
						<td>
							{c.sentence} {c.next && <span className="opacity-80">{c.next}</span>}
						</td>
					</tr>
				))}
			</tbody>
		</table>
	);
}

/** The layers from the volume down to the media. */
export function Chain({ layers }: { layers: Layer[] }) {
	return (
		<ul className="border-base-300 pl-4 not-first:border-l">
			{layers.map((l) => (
				<li key={l.kind + l.name} className="my-1">
					<span className="rounded-field border border-base-300 bg-base-200 px-2 py-0.5">
						{l.name.startsWith(l.kind) ? "" : l.kind}{" "}
						<strong className="font-medium">{l.name === l.kind ? l.kind : l.name}</strong>
					</span>{" "}
					<span className="opacity-80">{l.words}</span>
					{l.trouble && <span className="text-error"> could not look: {l.trouble}</span>}
					{(l.below ?? []).length > 0 && <Chain layers={l.below ?? []} />}
				</li>
			))}
		</ul>
	);
}

/** What is known of a setup, each fact with where it is known from. */
export function Facts({ setup, label }: { setup: Setup; label: (key: string) => [string, string] }) {
	const facts = setup.facts ?? [];
	if (facts.length === 0) {
		return <p className="opacity-80">Its setup is not known.</p>;
	}
	return (
		<table className="table table-sm">
			<thead>
				<tr>
					<th>Part</th>
					<th>Fact</th>
					<th>Value</th>
					<th>Known from</th>
				</tr>
			</thead>
			<tbody>
				{facts.map((f) => (
					<tr key={f.key}>
						<td className="whitespace-nowrap">{label(f.key)[0]}</td>
						<td>{label(f.key)[1]}</td>
						<td className="break-all">{f.value}</td>
						<td className="opacity-80">{f.origin}</td>
					</tr>
				))}
			</tbody>
		</table>
	);
}
