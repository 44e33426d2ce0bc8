import type { Conclusion } from "../api/client";
import { Verdict } from "./verdict";

/** What many measurements answer together: a question each, with every side's answer and its range. */
export function Answers({ answers }: { answers: Conclusion[] }) {
	if (answers.length === 0) {
		return null;
	}
	return (
		<section aria-label="Answers" className="mt-8">
			<h2 className="text-lg">Answers</h2>
			{answers.map((a) => (
				<div key={a.title} className="mt-3">
					<h3 className="font-medium">{a.title}</h3>
					{(a.sides ?? []).length > 0 && (
						<div className="overflow-x-auto">
							<table className="table table-sm w-auto">
								<tbody>
									{a.sides?.map((s) => (
										<tr key={s.side}>
											<th scope="row">{s.side}</th>
											<td className="figure text-lg">{s.shown}</td>
											<td className="text-sm">{s.range}</td>
											<td className="text-sm opacity-80">{s.reason}</td>
											<td className="text-sm text-accent">{s.cautions?.map((c) => c.words).join(" ")}</td>
										</tr>
									))}
								</tbody>
							</table>
						</div>
					)}
					{a.ratios?.map((r) => (
						<p key={r.side} className="mt-1">
							<Verdict word={r.verdict} bare /> {a.kind === "meet" && `${r.side}: `}
							{r.words}.
						</p>
					))}
				</div>
			))}
		</section>
	);
}
