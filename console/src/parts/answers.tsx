import type { Conclusion } from "../api/client";
import { Verdict } from "./verdict";

/** How a candidate stands to the baseline. */
function Stands({ ratio }: { ratio: NonNullable<Conclusion["ratios"]>[number] }) {
	return (
		<>
			<Verdict word={ratio.verdict} bare /> {ratio.words}
		</>
	);
}

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
									{a.sides?.map((s, n) => (
										<tr key={s.side}>
											<th scope="row" className="whitespace-nowrap">
												{s.side}
											</th>
											<td className="figure whitespace-nowrap text-lg">{s.shown}</td>
											<td className="text-sm whitespace-nowrap">{s.range}</td>
											<td className="text-sm opacity-80">{s.reason}</td>
											<td>{n > 0 && a.ratios?.[n - 1] && <Stands ratio={a.ratios[n - 1]} />}</td>
										</tr>
									))}
								</tbody>
							</table>
						</div>
					)}
					{(a.sides ?? []).length === 0 &&
						a.ratios?.map((r) => (
							<p key={r.side} className="mt-1">
								{r.side}: <Stands ratio={r} />
							</p>
						))}
				</div>
			))}
		</section>
	);
}
