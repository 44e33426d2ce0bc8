import { useCallback, useMemo, useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../api/client";
import { Chart, type Colours } from "./chart";
import { digits, price } from "./format";
import { Empty } from "./shell";
import { shapeOf, Verdict } from "./verdict";

/** A need with the setups that were judged by it, measured or simulated. */
type Decision = Schemas["Judged"];
type Answer = Schemas["Answer"];
type OfDemand = NonNullable<Answer["verdicts"]>[number];

/** What setups are called where there is little room: by their names, or by number where these are long or many. */
function labels(setups: Answer[]): string[] {
	const long = setups.length > 8 || setups.some((s) => s.name.length > 22);
	return setups.map((s, i) => (long ? String(i + 1) : s.name));
}

/** A setup's name at the head of a column. */
function Head({ setup, label }: { setup: Answer; label: string }) {
	return label === setup.name ? (
		label
	) : (
		<span title={setup.name}>
			<span aria-hidden="true">{label}</span>
			<span className="sr-only">{setup.name}</span>
		</span>
	);
}

/** Times of headroom in few letters. */
function times(v: number): string {
	if (v >= 1000) {
		return `${Math.round(v / 1000)} k`;
	}
	return v >= 10 ? String(Math.floor(v)) : (Math.floor(v * 100) / 100).toFixed(2);
}

/** A verdict in a cell: a shape, how many times, and all of it in words for those who listen. */
function Cell({ v }: { v: OfDemand }) {
	const [shape, colour] = shapeOf(v.outcome);
	let figure = "";
	if (v.outcome === "meets" || v.outcome === "falls short") {
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

/** What tells a demand from the others of its need. */
const named = (d: Schemas["Demand"]) => `${d.use}: ${d.words}`;

/** What is asked against who meets it. A chosen cell opens into what it rests on. */
export function Demands({ j }: { j: Decision }) {
	const [at, setAt] = useState<[demand: string, setup: string]>();
	const setups = j.setups ?? [];
	const short = labels(setups);
	const demands = j.demands ?? [];
	const demand = demands.findIndex((d) => named(d) === at?.[0]);
	const chosen = setups.find((s) => s.name === at?.[1]);
	const shown = demand >= 0 && chosen?.verdicts?.[demand];
	return (
		<section className="mt-6" aria-label="Requirements, and which setups meet them">
			<h2 className="text-lg">Requirements, and which setups meet them</h2>
			<div className="mt-2 overflow-x-auto">
				<table className="table table-sm">
					<thead>
						<tr>
							<th scope="col">Use</th>
							<th scope="col">Requirement</th>
							{setups.map((s, i) => (
								<th scope="col" key={s.name} className="max-w-24 text-center align-bottom whitespace-normal">
									<Head setup={s} label={short[i]} />
								</th>
							))}
						</tr>
					</thead>
					<tbody>
						{demands.map((d, i) => (
							<tr key={named(d)} className={d.use !== demands[i - 1]?.use ? "" : "border-t-0"}>
								<td className="whitespace-nowrap">{d.use === demands[i - 1]?.use ? "" : d.use}</td>
								<th scope="row" className="min-w-48 font-normal">
									{d.words}
								</th>
								{setups.map((s) => {
									const open = demand === i && chosen === s;
									return (
										<td key={s.name} className={`p-0 text-center ${open ? "bg-base-200" : ""}`}>
											<button
												type="button"
												className="w-full cursor-pointer px-2 py-1.5 hover:bg-base-200"
												aria-pressed={open}
												onClick={() => setAt([named(d), s.name])}
											>
												{s.verdicts?.[i] && <Cell v={s.verdicts[i]} />}
											</button>
										</td>
									);
								})}
							</tr>
						))}
						<tr className="font-medium">
							<td />
							<th scope="row">all together</th>
							{setups.map((s) => (
								<td key={s.name} className="text-center">
									<Verdict word={s.outcome} />
								</td>
							))}
						</tr>
					</tbody>
				</table>
			</div>
			{chosen && shown ? (
				<Detail of={demands[demand].words} use={demands[demand].use} setup={chosen} v={shown} />
			) : (
				<p className="mt-1 text-sm opacity-80">Choose a cell to see its evidence.</p>
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
					It rests on {v.measurements?.length}
					{(setup.runs ?? []).length === 0 ? " simulated" : ""} measurement
					{v.measurements?.length === 1 ? "" : "s"}
					{["", " of "][(setup.runs ?? []).length] ?? " among those of "}
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

/** Where the name of each spot of the chart stands so that none covers another; "" for nowhere. */
function besides(spots: (Answer & { label: string })[]): string[] {
	const [wide, high, letter, line] = [430, 290, 7, 15];
	const most = Math.max(...spots.map((s) => s.price ?? 0)) * 1.15;
	const low = Math.floor(Math.log10(Math.min(...spots.map((s) => s.carries ?? 1))));
	const top = Math.ceil(Math.log10(Math.max(...spots.map((s) => s.carries ?? 1))));
	const places = spots.map((s) => ({
		x: ((s.price ?? 0) / most) * wide,
		y: ((Math.log10(s.carries ?? 1) - low) / Math.max(top - low, 1)) * high,
	}));
	type Box = [number, number, number, number];
	const taken: Box[] = places.map(({ x, y }) => [x - 7, x + 7, y - 7, y + 7]);
	const free = (b: Box) =>
		b[0] > 0 && b[1] < wide && !taken.some((t) => b[0] < t[1] && b[1] > t[0] && b[2] < t[3] && b[3] > t[2]);
	const sides = spots.map(() => "");
	const first = spots
		.map((_, i) => i)
		.sort((a, b) => Number(spots[b].frontier ?? 0) - Number(spots[a].frontier ?? 0));
	for (const i of first) {
		const { x, y } = places[i];
		const width = spots[i].label.length * letter;
		const boxes: [string, Box][] = [
			["right", [x + 8, x + 8 + width, y - line / 2, y + line / 2]],
			["left", [x - 8 - width, x - 8, y - line / 2, y + line / 2]],
			["top", [x - width / 2, x + width / 2, y + 8, y + 8 + line]],
			["bottom", [x - width / 2, x + width / 2, y - 8 - line, y - 8]],
		];
		const found = boxes.find(([, box]) => free(box));
		if (found) {
			sides[i] = found[0];
			taken.push(found[1]);
		}
	}
	return sides;
}

/** Headroom against price, those that nobody dominates filled. */
export function Frontier({ j }: { j: Decision }) {
	const spots = useMemo(() => {
		const short = labels(j.setups ?? []);
		return (j.setups ?? [])
			.map((s, i) => ({ ...s, label: short[i] }))
			.filter((s) => (s.price ?? 0) > 0 && (s.carries ?? 0) > 0);
	}, [j.setups]);
	const option = useCallback(
		(c: Colours) => {
			const sides = besides(spots);
			const of = (frontier: boolean) =>
				spots
					.map((s, i) => ({
						value: [s.price ?? 0, s.carries ?? 0],
						name: s.name,
						frontier: s.frontier ?? false,
						label: {
							show: sides[i] !== "",
							position: sides[i],
							formatter: s.label,
							color: c.ink,
							textBorderColor: c.paper,
							textBorderWidth: 3,
						},
					}))
					.filter((s) => s.frontier === frontier);
			return {
				legend: { show: false },
				tooltip: {
					trigger: "item",
					formatter: (p: { name: string; value: number[] }) =>
						`${p.name}: ${price(p.value[0])}, ${times(p.value[1])} times`,
				},
				xAxis: { type: "value", name: "price", nameLocation: "middle", nameGap: 26, min: 0 },
				yAxis: { type: "log", name: "smallest headroom, times", nameLocation: "middle", nameGap: 40 },
				series: [
					{
						type: "scatter",
						name: "dominated",
						symbolSize: 11,
						itemStyle: { color: c.paper, borderColor: c.baseline, borderWidth: 2 },
						data: of(false),
					},
					{
						type: "scatter",
						name: "frontier",
						symbolSize: 12,
						itemStyle: { color: c.read },
						data: of(true),
						markLine: {
							silent: true,
							z: 1,
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
				Headroom against price is drawn if two or more setups have a price and all their figures: tell{" "}
				<code>cost.price</code> on their Look page.
			</p>
		);
	}
	return (
		<div>
			<Chart
				title="Headroom against price"
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
				height={380}
			/>
			<p className="text-sm opacity-80">
				Filled: Pareto-optimal, no other setup has the same headroom for less or more for the same price.
				Below the line it falls short.
			</p>
		</div>
	);
}

/** What units of what setups have and carry cost. */
export function Costs({ j }: { j: Decision }) {
	const short = labels(j.setups ?? []);
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
									<Head setup={s} label={short[(j.setups ?? []).indexOf(s)]} />
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

const survives: Record<string, [string, string]> = {
	yes: ["✓", "text-secondary"],
	no: ["▼", "text-error"],
	"not known": ["○", "opacity-60"],
};

/** What each failure does to each setup, whether the need asks for it or not. */
function Failures({ j }: { j: Decision }) {
	const setups = j.setups ?? [];
	const short = labels(setups);
	return (
		<section className="mt-8" aria-label="Failures">
			<h2 className="text-lg">Failures</h2>
			<div className="mt-2 overflow-x-auto">
				<table className="table table-sm">
					<thead>
						<tr>
							<th scope="col">Data stay intact and accessible after the loss of</th>
							{setups.map((s, i) => (
								<th scope="col" key={s.name} className="max-w-24 text-center align-bottom whitespace-normal">
									<Head setup={s} label={short[i]} />
								</th>
							))}
						</tr>
					</thead>
					<tbody>
						{setups[0]?.failures?.map((f, n) => (
							<tr key={f.failure}>
								<th scope="row" className="font-normal">
									{f.failure}
								</th>
								{setups.map((s) => {
									const after = s.failures?.[n];
									const [shape, colour] = survives[after?.survives ?? ""] ?? ["", ""];
									return (
										<td key={s.name} className={`text-center ${colour}`} title={after?.words}>
											<span aria-hidden="true">{shape}</span>
											<span className="sr-only">
												{after?.survives}: {after?.words}
											</span>
										</td>
									);
								})}
							</tr>
						))}
						<tr>
							<th scope="row" className="font-normal">
								rebuild of a member without other load, calculated
							</th>
							{setups.map((s) => (
								<td key={s.name} className="max-w-32 text-center text-xs whitespace-normal">
									{s.rebuilds}
								</td>
							))}
						</tr>
						{states
							.filter((state) => setups.some((s) => s.meanwhile?.some((m) => m.state === state)))
							.map((state) => (
								<tr key={state}>
									<th scope="row" className="font-normal">
										what its uses ask, while it is {state}
									</th>
									{setups.map((s) => (
										<td key={s.name} className="text-center text-xs">
											<While of={s.meanwhile?.find((m) => m.state === state)} />
										</td>
									))}
								</tr>
							))}
					</tbody>
				</table>
			</div>
			{setups.some((s) => s.meanwhile?.length) && (
				<details className="mt-2">
					<summary className="cursor-pointer">Requirements during the failure</summary>
					<ul className="mt-1 text-sm">
						{setups.flatMap((s) =>
							(s.meanwhile ?? []).map((m) => (
								<li key={`${s.name} ${m.state}`}>
									<strong className="font-medium">{s.name}</strong>, while it is {m.state}: {m.words}.
								</li>
							)),
						)}
					</ul>
				</details>
			)}
		</section>
	);
}

const states = ["degraded", "rebuilding"] as const;

/** How a setup stands to what its uses ask while it is in a state, and how long that lasts. */
function While({ of }: { of?: NonNullable<Answer["meanwhile"]>[number] }) {
	if (!of) {
		return <span className="sr-only">not measured</span>;
	}
	return (
		<span title={of.words}>
			<Verdict word={of.outcome} />
			{of.lastsSeconds ? ` for ${digits(of.lastsSeconds / 3600)} h` : ""}
		</span>
	);
}

/** Why verdicts are open, the same of several setups and figures once. */
export function Open({ j }: { j: Decision }) {
	const of = new Map<string, { setups: Set<string>; demands: Set<string> }>();
	for (const s of j.setups ?? []) {
		s.verdicts?.forEach((v, i) => {
			if (v.outcome !== "not shown" && v.outcome !== "not measured") {
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
		<section className="mt-8" aria-label="Open requirements">
			<h2 className="text-lg">Open requirements</h2>
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

/** All that is said of a need and the setups that were judged by it. */
export function Judged({ j }: { j: Decision }) {
	const setups = j.setups ?? [];
	const short = labels(setups);
	if (setups.length === 0) {
		return (
			<Empty>
				<p className="text-lg">No setup was measured for this need.</p>
				<Link to="/measure" className="btn btn-primary">
					Measure
				</Link>
			</Empty>
		);
	}
	return (
		<>
			<p className="my-3 max-w-4xl text-lg">{j.words}</p>
			{j.giveUp
				?.filter((g) => !j.words.includes(g.words))
				.map((g) => (
					<p key={g.words}>{g.words}</p>
				))}
			{j.wanted && <p className="text-sm">{j.wanted}</p>}
			{j.remarks?.map((words) => (
				<p key={words} className="text-sm text-accent">
					{words}
				</p>
			))}
			<Demands j={j} />
			<div className="mt-8 grid items-start gap-8 lg:grid-cols-2">
				<Frontier j={j} />
				<section aria-label="Setup by setup">
					<h2 className="text-lg">Setup by setup</h2>
					<ul className="mt-2 flex flex-col gap-1 text-sm">
						{setups.map((s, i) => (
							<li key={s.name}>
								<Verdict word={s.outcome} bare /> {short[i] !== s.name && `${short[i]}: `}
								<b>{s.name}</b> {s.words}.
							</li>
						))}
					</ul>
					{j.worth?.map((w) => (
						<p key={w.words} className="mt-2 text-sm">
							{w.words}
						</p>
					))}
				</section>
			</div>
			<Failures j={j} />
			<Costs j={j} />
			<Open j={j} />
		</>
	);
}
