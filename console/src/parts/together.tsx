import { useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import { Link } from "react-router";
import { api, isFinal, type Measurement, type Race, type Run } from "../api/client";
import { Chart, type Colours, sideLine } from "./chart";
import { bytes, digits, files, seconds, share, throughput } from "./format";
import { Trouble } from "./shell";

/** In a few words, with which runs a run is made. */
export function beside(run: Run): string {
	const others = (run.joint?.runs ?? []).filter((id) => id !== run.id).join(" and ");
	return others && `${run.joint?.as === "race" ? "races with" : "in turn with"} ${others}`;
}

/** With which runs a run is made, and where to see what comes of them together. */
export function Beside({ run }: { run: Run }) {
	const runs = run.joint?.runs ?? [];
	if (runs.length < 2) {
		return null;
	}
	const query = new URLSearchParams({ base: String(runs[0]), noise: "0.05" });
	for (const id of runs.slice(1)) {
		query.append("with", String(id));
	}
	return (
		<p className="mb-3">
			{run.joint?.as === "race" ? "A race with " : "Made in turn with "}
			{runs
				.filter((id) => id !== run.id)
				.map((id, n) => (
					<span key={id}>
						{n > 0 && " and "}
						<Link className="link" to={`/runs/${id}`}>
							run {id}
						</Link>
					</span>
				))}
			{isFinal(run.status) && (
				<>
					.{" "}
					<Link className="link" to={`/compare/view?${query}`}>
						Compare them in pairs
					</Link>
				</>
			)}
			.
		</p>
	);
}

/** Who was ahead, of a run that races: in the race of the measurement that is shown. */
export function Races({ run, shown }: { run: Run; shown?: Measurement }) {
	const races = useQuery({
		queryKey: ["races", run.id, shown?.position, shown?.status],
		queryFn: () => api.races(run.id, shown?.position ?? 0),
		enabled: run.joint?.as === "race" && shown !== undefined,
		// This run can have ended before another racer's is kept.
		refetchInterval: (q) => (q.state.data?.races?.every((r) => r.over) && isFinal(run.status) ? false : 1500),
	});
	if (run.joint?.as !== "race") {
		return null;
	}
	if (races.error) {
		return <Trouble error={races.error} />;
	}
	const race = races.data?.races?.find((r) => r.position === shown?.position);
	if (!race) {
		return null;
	}
	return (
		<section aria-label="Who was ahead" className="mt-4">
			<h2 className="text-lg">Who {isFinal(run.status) ? "was" : "is"} ahead</h2>
			<p>{race.words}</p>
			{race.cautions?.map((c) => (
				<p key={c} className="text-sm text-accent">
					{c}
				</p>
			))}
			<Standings race={race} run={run.id} />
			<Strip race={race} />
			<AheadChart race={race} />
		</section>
	);
}

const letter = (racer: number) => (racer < 0 ? "·" : String.fromCharCode(65 + racer));

const amount = (race: Race, done: number) =>
	race.counts === "files" ? `${done.toFixed(0)} files` : bytes(done);

function Standings({ race, run }: { race: Race; run: number }) {
	return (
		<div className="my-2 overflow-x-auto">
			<table className="table table-sm">
				<thead>
					<tr>
						<th />
						<th>Racer</th>
						<th className="figure">Done</th>
						<th className="figure">A second</th>
						<th className="figure">Took</th>
						<th className="figure">Rate varies by</th>
					</tr>
				</thead>
				<tbody>
					{race.racers?.map((s, n) => {
						const lasted = s.seconds - (s.line?.[0]?.atSeconds ?? 0);
						const rate = lasted > 0 ? s.done / lasted : 0;
						return (
							<tr key={s.runId} className={s.runId === run ? "bg-base-200" : ""}>
								<td>{letter(n)}</td>
								<td>
									<Link className="link link-hover" to={`/runs/${s.runId}`}>
										{s.name}
									</Link>
								</td>
								<td className="figure">{amount(race, s.done)}</td>
								<td className="figure">{race.counts === "files" ? files(rate) : throughput(rate)}</td>
								<td className="figure">
									{seconds(s.seconds)}
									{s.finished && ", done"}
									{s.failed && ", failed"}
								</td>
								<td className="figure">
									{s.variation ? share(s.variation) : ""}
									{s.steadiest && ", steadiest"}
								</td>
							</tr>
						);
					})}
				</tbody>
			</table>
		</div>
	);
}

/** What part of the bar a letter takes on a narrow page. */
const roomForLetter = 0.03;

/** A bar over the time of a race, with the letter of the one ahead in each stretch. */
function Strip({ race }: { race: Race }) {
	const leads = race.leads ?? [];
	if (leads.length === 0) {
		return null;
	}
	const from = leads[0].fromSeconds;
	const all = leads[leads.length - 1].toSeconds - from;
	return (
		<div
			className="my-2 flex h-6 w-full overflow-hidden rounded-field border border-base-300 text-xs leading-6"
			role="img"
			aria-label={leads
				.map(
					(l) =>
						`${l.racer < 0 ? "nobody" : race.racers?.[l.racer].name} ahead from ${seconds(l.fromSeconds)} to ${seconds(l.toSeconds)}`,
				)
				.join("; ")}
		>
			{leads.map((l) => (
				<span
					key={l.fromSeconds}
					title={`${l.racer < 0 ? "nobody is ahead" : `${race.racers?.[l.racer].name} is ahead`}, ${seconds(l.fromSeconds)} to ${seconds(l.toSeconds)}`}
					className={`overflow-hidden border-r border-base-100 text-center ${l.racer < 0 ? "" : l.racer % 2 ? "bg-base-300" : "bg-base-200"}`}
					style={{ width: `${((l.toSeconds - l.fromSeconds) / all) * 100}%` }}
				>
					{l.toSeconds - l.fromSeconds > all * roomForLetter && letter(l.racer)}
				</span>
			))}
		</div>
	);
}

/** By how much each racer was ahead of the one that had done least, over time. */
function AheadChart({ race }: { race: Race }) {
	const unit = race.counts === "files" ? "files" : "MB";
	const of = race.counts === "files" ? 1 : 1e6;
	const option = useMemo(
		() => (c: Colours) => ({
			xAxis: {
				type: "value",
				name: "seconds",
				nameLocation: "middle",
				nameGap: 26,
				min: "dataMin",
				max: "dataMax",
				axisLabel: { formatter: (v: number) => digits(v) },
			},
			yAxis: { type: "value", name: `${unit} ahead`, min: 0 },
			tooltip: {
				trigger: "axis",
				formatter: (hits: { seriesName: string; value: [number, number] }[]) =>
					[
						`at ${seconds(hits[0].value[0])}`,
						...hits.map((h) => `${h.seriesName}: ${digits(h.value[1])} ${unit} ahead`),
					].join("<br/>"),
			},
			series: (race.racers ?? []).map((s, n) => ({
				type: "line",
				name: `${letter(n)} ${s.name}`,
				...sideLine(n, c),
				showSymbol: false,
				data: (s.line ?? []).map((m) => [m.atSeconds, m.ahead / of]),
			})),
		}),
		[race, unit, of],
	);
	return (
		<Chart
			title="Ahead of the last"
			summary={`The lead of each over the last one. ${race.words}`}
			table={() => [
				["racer", "at (s)", `done (${race.counts})`, `ahead of the last (${race.counts})`],
				...(race.racers ?? []).flatMap((s) =>
					(s.line ?? []).map((m) => [s.name, m.atSeconds, m.done, m.ahead]),
				),
			]}
			option={option}
		/>
	);
}
