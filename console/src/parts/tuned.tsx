import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, isFinal, type Run, type Schemas } from "../api/client";
import { digits } from "./format";
import { Trouble } from "./shell";
import { Verdict } from "./verdict";

type Answer = Schemas["StageTuned"];
type Ratio = Schemas["Ratio"];

/** Whether a run is an experiment. */
export function isTuning(run: Run): boolean {
	return (run.plan.stages ?? []).some((s) => s.tune);
}

/** What an experiment shows, while it goes on too. */
export function Tuned({ run }: { run: Run }) {
	const going = !isFinal(run.status);
	const shape = useQuery({
		queryKey: ["shape", run.id, run.status, 0],
		queryFn: () => api.shape(run.id, 0),
		placeholderData: (before) => before,
		enabled: isTuning(run),
		refetchInterval: going ? 4000 : false,
	});
	if (!isTuning(run)) {
		return null;
	}
	if (shape.error) {
		return <Trouble error={shape.error} />;
	}
	return (shape.data?.tuned ?? []).map((t) => <OneAnswer key={t.stage} answer={t} going={going} />);
}

/** How wide the bars are, in the units of their drawing. */
const width = 200;

/** The place of a ratio between the least and the largest that are drawn. */
function scaled(least: number, most: number) {
	const [from, to] = [Math.log(least), Math.log(most)];
	return (ratio: number) =>
		((Math.min(Math.max(Math.log(ratio), from), to) - from) / (to - from)) * (width - 12) + 6;
}

/** All ratios of an answer lie within these. */
function bounds(answer: Answer): [number, number] {
	const ratios: Ratio[] = (answer.parameters ?? []).flatMap((p) =>
		(p.values ?? []).filter((v) => !v.refused).map((v) => v.ratio),
	);
	if (answer.together) {
		ratios.push(answer.together.ratio, ...(answer.together.without ?? []).map((w) => w.ratio));
	}
	const all = ratios.flatMap((r) => [r.low ?? r.value, r.high ?? r.value]).filter((v) => v > 0);
	return [Math.min(0.9, ...all) / 1.02, Math.max(1.1, ...all) * 1.02];
}

function OneAnswer({ answer, going }: { answer: Answer; going: boolean }) {
	const at = scaled(...bounds(answer));
	const [copied, setCopied] = useState(false);
	const copy = () => navigator.clipboard.writeText(answer.record).then(() => setCopied(true));
	return (
		<section aria-label="What matters" className="mt-4">
			<h2 className="text-lg">{going ? "What matters, so far" : "What matters"}</h2>
			<p className="my-2 max-w-3xl">{answer.words}</p>
			{(answer.cautions ?? []).map((c) => (
				<p key={c} className="my-1 max-w-3xl text-accent">
					{c}
				</p>
			))}
			<div className="overflow-x-auto">
				<table className="table table-sm">
					<thead>
						<tr>
							<th>Alone, against the baseline</th>
							<th>
								× {digits(bounds(answer)[0])} to {digits(bounds(answer)[1])}
							</th>
							<th>Effect</th>
							<th>95 % interval</th>
							<th>Verdict</th>
							<th>Also</th>
						</tr>
					</thead>
					{(answer.parameters ?? []).map((p) => (
						<tbody key={p.field}>
							<tr className="bg-base-200">
								<th scope="rowgroup" colSpan={4} className="font-medium">
									{p.field} <span className="font-normal opacity-80">{p.from}</span>
								</th>
								<td colSpan={2}>{p.matter}</td>
							</tr>
							{(p.values ?? []).map((v) => (
								<tr key={v.value} title={v.failed}>
									<td className="pl-8">{v.value}</td>
									<td>{!v.refused && v.ratio.value > 0 && <Bar ratio={v.ratio} at={at} />}</td>
									<td>{v.words}</td>
									<td className="whitespace-nowrap">{v.between}</td>
									<td>{!v.refused && v.ratio.verdict !== "missing" && <Verdict word={v.ratio.verdict} />}</td>
									<td className="opacity-80">{v.besideWords}</td>
								</tr>
							))}
						</tbody>
					))}
					{answer.together && <Together of={answer.together} at={at} />}
				</table>
			</div>
			<div className="mt-3 flex items-baseline gap-3">
				<h3 className="font-medium">For the record</h3>
				<button type="button" className="btn btn-xs print:hidden" onClick={copy}>
					{copied ? "Copied" : "Copy"}
				</button>
			</div>
			<pre className="mt-1 max-h-72 overflow-auto rounded-box border border-base-300 p-3 text-xs">
				{answer.record}
			</pre>
		</section>
	);
}

/** What the promising settings did together, and without each of them. */
function Together({ of, at }: { of: NonNullable<Answer["together"]>; at: (ratio: number) => number }) {
	return (
		<tbody>
			<tr className="bg-base-200">
				<th scope="rowgroup" colSpan={6} className="font-medium">
					Together: {(of.settings ?? []).map((s) => `${s.field} ${s.value}`).join(", ")}
				</th>
			</tr>
			<tr>
				<td className="pl-8">all of them</td>
				<td>
					<Bar ratio={of.ratio} at={at} />
				</td>
				<td>{of.words}</td>
				<td className="whitespace-nowrap">{of.between}</td>
				<td>
					<Verdict word={of.ratio.verdict} />
				</td>
				<td className="opacity-80">{of.besideWords}</td>
			</tr>
			{(of.without ?? []).map((w) => (
				<tr key={w.setting.field}>
					<td className="pl-8">
						without {w.setting.field} {w.setting.value}, over all of them
					</td>
					<td>
						<Bar ratio={w.ratio} at={at} />
					</td>
					<td>{w.words}</td>
					<td className="whitespace-nowrap">{w.between}</td>
					<td>
						<Verdict word={w.ratio.verdict} />
					</td>
					<td />
				</tr>
			))}
		</tbody>
	);
}

/** A ratio with its interval, beside a line at the baseline. */
function Bar({ ratio, at }: { ratio: Ratio; at: (ratio: number) => number }) {
	const [low, high] = [at(ratio.low || ratio.value), at(ratio.high || ratio.value)];
	return (
		<svg viewBox={`0 0 ${width} 18`} className="block h-[18px] w-[200px]" aria-hidden="true">
			<line x1={at(1)} x2={at(1)} y1="0" y2="18" stroke="currentColor" strokeWidth="1" opacity="0.5" />
			<line
				x1={low}
				x2={high}
				y1="9"
				y2="9"
				className="stroke-primary"
				strokeWidth="3"
				strokeLinecap="round"
			/>
			<circle cx={at(ratio.value)} cy="9" r="4" className="fill-primary" />
		</svg>
	);
}
