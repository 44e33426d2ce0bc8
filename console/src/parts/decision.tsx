import { useCallback, useState } from "react";
import { Link } from "react-router";
import type { Judgement, Schemas } from "../api/client";
import { Chart, type Colours } from "./chart";
import { digits } from "./format";
import { Verdict } from "./verdict";

type Answer = Schemas["Answer"];
type OfDemand = NonNullable<Answer["verdicts"]>[number];

/** A price for people. */
export const price = (v: number) =>
	v >= 1000 ? Math.round(v).toLocaleString("en").replaceAll(",", " ") : digits(v);

/** Times of headroom in few letters. */
function times(v: number): string {
	if (v >= 1000) {
		return `${Math.round(v / 1000)} k`;
	}
	return v >= 10 ? String(Math.floor(v)) : (Math.floor(v * 100) / 100).toFixed(2);
}

const marks: Record<string, [string, string]> = {
	meets: ["✓", "text-secondary"],
	"falls short": ["▼", "text-error"],
	"not shown": ["~", ""],
	"not measured": ["○", "opacity-60"],
};

/** A verdict in a cell: a shape, how many times, and all of it in words for those who listen. */
function Cell({ v }: { v: OfDemand }) {
	const [shape, colour] = marks[v.standing] ?? ["", ""];
	let figure = "";
	if (v.standing === "meets" || v.standing === "falls short") {
		const h = v.headroom ?? 0;
		figure = h >= 1 ? `× ${times(h)}` : h > 0 ? `−${Math.max(Math.round((1 - h) * 100), 1)} %` : "";
	}
	return (
		<span className={`whitespace-nowrap ${colour}`} title={v.words}>
			<span aria-hidden="true">
				{shape} {figure}
			</span>
			<span className="sr-only">{v.words}</span>
		</span>
	);
}

/** What is asked against who meets it. A chosen cell opens into what it rests on. */
export function Demands({ j }: { j: Judgement }) {
	const [at, setAt] = useState<[number, number]>();
	const setups = j.setups ?? [];
	const demands = j.demands ?? [];
	const shown = at && setups[at[1]]?.verdicts?.[at[0]];
	return (
		<section className="mt-6" aria-label="What is asked, and who meets it">
			<h2 className="text-lg">What is asked, and who meets it</h2>
			<div className="mt-2 overflow-x-auto">
				<table className="table table-sm">
					<thead>
						<tr>
							<th scope="col">Use</th>
							<th scope="col">What is asked</th>
							{setups.map((s) => (
								<th scope="col" key={s.name} className="text-center align-bottom">
									{s.name}
								</th>
							))}
						</tr>
					</thead>
					<tbody>
						{demands.map((d, i) => (
							<tr key={`${d.use} ${d.words}`} className={d.use !== demands[i - 1]?.use ? "" : "border-t-0"}>
								<td className="whitespace-nowrap">{d.use === demands[i - 1]?.use ? "" : d.use}</td>
								<th scope="row" className="font-normal">
									{d.words}
								</th>
								{setups.map((s, k) => (
									<td
										key={s.name}
										className={`p-0 text-center ${at?.[0] === i && at[1] === k ? "bg-base-200" : ""}`}
									>
										<button
											type="button"
											className="w-full cursor-pointer px-2 py-1.5 hover:bg-base-200"
											aria-pressed={at?.[0] === i && at[1] === k}
											onClick={() => setAt([i, k])}
										>
											{s.verdicts?.[i] && <Cell v={s.verdicts[i]} />}
										</button>
									</td>
								))}
							</tr>
						))}
						<tr className="font-medium">
							<td />
							<th scope="row">all together</th>
							{setups.map((s) => (
								<td key={s.name} className="text-center">
									<Verdict word={s.standing} />
								</td>
							))}
						</tr>
					</tbody>
				</table>
			</div>
			{at && shown ? (
				<Detail of={demands[at[0]].words} use={demands[at[0]].use} setup={setups[at[1]]} v={shown} />
			) : (
				<p className="mt-1 text-sm opacity-80">Choose a cell to see what it rests on.</p>
			)}
		</section>
	);
}

/** What one verdict rests on. */
function Detail(props: { of: string; use?: string; setup: Answer; v: OfDemand }) {
	const { setup, v } = props;
	return (
		<div className="mt-2 rounded-box border border-base-300 p-3" role="status">
			<p>
				<b>{setup.name}</b>
				{props.use ? `, ${props.use}` : ""}: {props.of}. <b>{v.words}</b>
				{v.shown ? `: ${v.shown}.` : "."}
			</p>
			{v.reason && <p className="text-sm">{v.reason}</p>}
			{(v.measurements ?? []).length > 0 && (
				<p className="mt-1 text-sm opacity-80">
					It rests on {v.measurements?.length} measurement{v.measurements?.length === 1 ? "" : "s"} of{" "}
					{(setup.runs ?? []).map((r, i) => (
						<span key={r}>
							{i > 0 ? ", " : ""}
							<Link className="link" to={`/runs/${r}`}>
								run {r}
							</Link>
						</span>
					))}
				</p>
			)}
		</div>
	);
}

/** What each setup carries for its price, those that nobody dominates filled. */
export function Frontier({ j }: { j: Judgement }) {
	const spots = (j.setups ?? []).filter((s) => (s.price ?? 0) > 0 && (s.carries ?? 0) > 0);
	const option = useCallback(
		(c: Colours) => {
			const of = (frontier: boolean) =>
				spots
					.filter((s) => (s.frontier ?? false) === frontier)
					.map((s) => [s.price ?? 0, s.carries ?? 0, s.name]);
			const most = Math.max(...spots.map((s) => s.price ?? 0));
			const label = {
				show: true,
				formatter: (p: { value: unknown }) => String((p.value as unknown[])[2]),
				color: c.ink,
			};
			// A label stands on the side where there is room, and gives way to others.
			const sided = (rows: (string | number)[][]) =>
				rows.map((value) => ({
					value,
					label: { ...label, position: Number(value[0]) > most * 0.55 ? "left" : "right" },
				}));
			return {
				legend: { show: false },
				tooltip: { trigger: "item" },
				xAxis: { type: "value", name: "price", nameLocation: "middle", nameGap: 26, min: 0 },
				yAxis: { type: "log", name: "smallest headroom, times", nameLocation: "middle", nameGap: 40 },
				series: [
					{
						type: "scatter",
						name: "dominated",
						symbolSize: 11,
						itemStyle: { color: c.paper, borderColor: c.baseline, borderWidth: 2 },
						data: sided(of(false)),
						labelLayout: { hideOverlap: true, moveOverlap: "shiftY" },
					},
					{
						type: "scatter",
						name: "frontier",
						symbolSize: 12,
						itemStyle: { color: c.read },
						data: sided(of(true)),
						labelLayout: { moveOverlap: "shiftY" },
						markLine: {
							silent: true,
							symbol: "none",
							label: { show: false },
							lineStyle: { color: c.ink, type: "dashed" },
							data: [{ yAxis: 1 }],
						},
					},
				],
			};
		},
		[spots],
	);
	if (spots.length < 2) {
		return (
			<p className="text-sm opacity-80">
				What setups carry for their price is drawn where the price of two or more is known, and all their
				figures: tell <code>cost.price</code> on their Look page.
			</p>
		);
	}
	return (
		<div>
			<Chart
				title="What each setup carries for its price"
				summary={spots
					.map((s) => `${s.name}: ${price(s.price ?? 0)}, ${times(s.carries ?? 0)} times`)
					.join("; ")}
				table={() => [
					["setup", "price", "smallest headroom", "of", "frontier"],
					...spots.map((s) => [
						s.name,
						s.price ?? 0,
						s.carries ?? 0,
						s.tightest ?? "",
						s.frontier ? "yes" : "no",
					]),
				]}
				option={option}
				height={300}
			/>
			<p className="text-sm opacity-80">
				Filled: no other setup carries as much for less, or more for as much. Below the line it falls short.
			</p>
		</div>
	);
}

/** What units of what setups have and carry cost. */
export function Costs({ j }: { j: Judgement }) {
	const setups = (j.setups ?? []).filter((s) => (s.price ?? 0) > 0);
	const of = [...new Set(setups.flatMap((s) => (s.costs ?? []).map((c) => c.of)))];
	if (setups.length === 0) {
		return null;
	}
	return (
		<section className="mt-8" aria-label="What it costs">
			<h2 className="text-lg">What it costs</h2>
			<div className="mt-2 overflow-x-auto">
				<table className="table table-sm">
					<thead>
						<tr>
							<th scope="col">Price of</th>
							{setups.map((s) => (
								<th scope="col" key={s.name} className="figure">
									{s.name}
								</th>
							))}
						</tr>
					</thead>
					<tbody>
						<tr>
							<th scope="row" className="font-normal">
								all of it
							</th>
							{setups.map((s) => (
								<td key={s.name} className="figure">
									{price(s.price ?? 0)}
								</td>
							))}
						</tr>
						{of.map((words) => (
							<tr key={words}>
								<th scope="row" className="font-normal">
									{words}
								</th>
								{setups.map((s) => {
									const c = s.costs?.find((o) => o.of === words);
									return (
										<td
											key={s.name}
											className="figure"
											title={c?.low ? `${price(c.low)} to ${price(c.high ?? 0)}` : undefined}
										>
											{c ? price(c.price) : ""}
										</td>
									);
								})}
							</tr>
						))}
					</tbody>
				</table>
			</div>
		</section>
	);
}

/** Why verdicts are open, the same of several setups and figures once. */
export function Open({ j }: { j: Judgement }) {
	const of = new Map<string, { setups: Set<string>; demands: Set<string> }>();
	for (const s of j.setups ?? []) {
		s.verdicts?.forEach((v, i) => {
			if (v.standing !== "not shown" && v.standing !== "not measured") {
				return;
			}
			const key = v.reason ? `${v.words}: ${v.reason}` : v.words;
			const open = of.get(key) ?? { setups: new Set(), demands: new Set() };
			const d = j.demands?.[i];
			open.setups.add(s.name);
			open.demands.add(d?.use ? `${d.use}, ${d.words}` : (d?.words ?? ""));
			of.set(key, open);
		});
	}
	if (of.size === 0) {
		return null;
	}
	return (
		<section className="mt-8" aria-label="What is not shown">
			<h2 className="text-lg">What is not shown</h2>
			<ul className="mt-2 list-disc pl-5 text-sm">
				{[...of].map(([words, o]) => (
					<li key={words}>
						<b>{[...o.setups].join(", ")}</b> ({[...o.demands].join("; ")}): {words}
					</li>
				))}
			</ul>
		</section>
	);
}
