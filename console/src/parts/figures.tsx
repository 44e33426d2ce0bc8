import type { Figures, Finding, Measurement } from "../api/client";
import { AgreedTable } from "./agreed";
import { rows, wholeFiles } from "./classes";
import { bytes, digits, files, rate, requests, seconds } from "./format";

/** The findings that say not to trust a figure: "reads", "writes" or "total". */
export function doubts(m: Measurement, figure: string): Finding[] {
	return (m.findings ?? []).filter(
		(f) => f.weight === "unreliable" && (f.figure === "all" || f.figure === figure || figure === "total"),
	);
}

/** Marks a figure that is not to be trusted, with the reason on hover. */
export function Doubt({ m, figure }: { m: Measurement; figure: string }) {
	const found = doubts(m, figure);
	if (found.length === 0) {
		return null;
	}
	const reason = found.map((f) => f.sentence).join(" ");
	return (
		<abbr className="ml-1 text-error no-underline" title={reason}>
			unreliable
		</abbr>
	);
}

/** What to believe of a measurement, in sentences. */
export function Findings({ m }: { m: Measurement }) {
	const words: Record<string, string> = { unreliable: "text-error", caution: "writes" };
	return (
		<ul className="mt-2 text-sm">
			{(m.findings ?? []).map((f) => (
				<li key={f.kind + f.figure} className="my-1">
					<strong className={words[f.weight] ?? ""}>{f.weight}</strong>, {f.figure}: {f.sentence} {f.next}
				</li>
			))}
		</ul>
	);
}

/** How operations were handed over, in words. */
function through(name: string): string {
	const words: Record<string, string> = {
		none: ", no storage behind it",
		simulated: " on a simulated array in virtual time",
		threads: " through threads",
	};
	return words[name] ?? ` through ${name}`;
}

/** How the rate went, where that is more than one level. */
function wentInWords(s: NonNullable<Measurement["summary"]>): string {
	const p = s.phases;
	return p && ((p.list?.length ?? 0) > 1 || p.dips || p.wave) ? ` Phases: ${p.words}` : "";
}

type Row = [name: string, look: string, figures: Figures];

/** Figures of classes of operation, or of groups of whole files, row by row. */
function Table(props: {
	m: Measurement;
	of: string;
	unit: string;
	rows: Row[];
	show: (rate: number) => string;
	doubt?: string;
}) {
	return (
		<table className="table table-sm mb-2">
			<thead>
				<tr>
					<th>{props.of}</th>
					<th className="figure">{props.unit}</th>
					<th className="figure">MB/s</th>
					<th className="figure">mean, ms</th>
					<th className="figure">± deviation, ms</th>
					<th className="figure">p50, ms</th>
					<th className="figure">p99, ms</th>
					<th className="figure">p99.9, ms</th>
					<th className="figure">max, ms</th>
				</tr>
			</thead>
			<tbody>
				{props.rows.map(([name, look, f]) => (
					<tr key={name}>
						<th scope="row" className={look}>
							{name}
							<Doubt m={props.m} figure={props.doubt ?? name} />
						</th>
						<td className="figure">{props.show(f.rate)}</td>
						<td className="figure">{f.bytes > 0 && digits(f.throughputBytesPerSecond / 1e6)}</td>
						<td className="figure">{digits(f.latency.meanSeconds * 1e3)}</td>
						<td className="figure">{digits(f.latency.deviationSeconds * 1e3)}</td>
						<td className="figure">{digits(f.latency.p50Seconds * 1e3)}</td>
						<td className="figure">{digits(f.latency.p99Seconds * 1e3)}</td>
						<td className="figure">{digits(f.latency.p999Seconds * 1e3)}</td>
						<td className="figure">{digits(f.latency.maxSeconds * 1e3)}</td>
					</tr>
				))}
			</tbody>
		</table>
	);
}

/** Most feeds that have a row: those that were latest. */
const mostFeeds = 12;

/** Whether the pieces of feeds came in time, those that were latest first. */
function Feeds({ summary: s }: { summary: NonNullable<Measurement["summary"]> }) {
	const groups = [...(s.groups ?? [])].sort(
		(a, b) =>
			(b.worstLateSeconds ?? 0) - (a.worstLateSeconds ?? 0) || b.latency.maxSeconds - a.latency.maxSeconds,
	);
	return (
		<table className="table table-sm mb-2">
			<thead>
				<tr>
					<th>streams, the latest first</th>
					<th className="figure">pieces</th>
					<th className="figure">late</th>
					<th className="figure">worst late</th>
					<th className="figure">longest stall</th>
					<th className="figure">MB/s</th>
					<th className="figure">mean, ms</th>
					<th className="figure">max, ms</th>
				</tr>
			</thead>
			<tbody>
				{groups.slice(0, mostFeeds).map((g) => (
					<tr key={g.name}>
						<th scope="row">{g.name}</th>
						<td className="figure">{g.operations}</td>
						<td className="figure">{g.late ?? 0}</td>
						<td className="figure">{g.worstLateSeconds ? seconds(g.worstLateSeconds) : ""}</td>
						<td className="figure">{g.longestStallSeconds ? seconds(g.longestStallSeconds) : ""}</td>
						<td className="figure">{digits(g.throughputBytesPerSecond / 1e6)}</td>
						<td className="figure">{digits(g.latency.meanSeconds * 1e3)}</td>
						<td className="figure">{digits(g.latency.maxSeconds * 1e3)}</td>
					</tr>
				))}
				{groups.length > mostFeeds && (
					<tr>
						<td colSpan={8}>and {groups.length - mostFeeds} more</td>
					</tr>
				)}
			</tbody>
		</table>
	);
}

/** What stores did for their requests, and what that took of the storage. */
function Stores({ m, summary: s }: { m: Measurement; summary: NonNullable<Measurement["summary"]> }) {
	const rows: Row[] = (s.groups ?? []).filter((g) => g.operations > 0).map((g) => [g.name, "", g]);
	const f = s.stores;
	return (
		<>
			<Table m={m} of="requests" unit="per second" rows={rows} show={rate} doubt="total" />
			{f && (
				<p className="text-sm">
					{requests(f.requestRate)}, {digits(f.readPerRequest)} storage reads per request
					{f.writtenPerPut ? `; write amplification ${digits(f.writtenPerPut)}` : ""}
					{f.cpuPerRequestSeconds ? `; ${seconds(f.cpuPerRequestSeconds)} of CPU time per request` : ""}
					{f.waits > 0 && `; ${f.waits} write stalls, the longest ${seconds(f.longestWaitSeconds)}`}.
				</p>
			)}
		</>
	);
}

/** What each of several loads at once came to. */
function atOnce(s: NonNullable<Measurement["summary"]>): Row[] {
	return (s.groups ?? [])
		.filter((g) => g.operations > 0)
		.map((g) => [g.late ? `${g.name}, ${g.late} pieces late` : g.name, "", g]);
}

/** The summary of a measurement as a table that can be read aloud. */
export function FiguresTable({ m }: { m: Measurement }) {
	const s = m.summary;
	if (!s) {
		return null;
	}
	const together = m.load.kind === "together";
	const groups: Row[] = (s.feeds || s.stores || together ? [] : (s.groups ?? [])).map((g) => [
		`${g.name}, in ${seconds(g.tookSeconds)}`,
		"",
		g,
	]);
	if (groups.length > 1) {
		groups.push([`all, in ${seconds(s.measuredSeconds)}`, "", s.classes[wholeFiles]]);
	}
	const operations = rows(s.classes, s.total).filter(([, , f]) => groups.length === 0 || f.operations > 0);
	return (
		<div className="overflow-x-auto">
			{groups.length > 0 && (
				<Table
					m={m}
					of="whole files"
					unit="files/s"
					rows={groups}
					doubt={wholeFiles}
					show={(v) => files(v).replace(/ ?files\/s$/, "")}
				/>
			)}
			<Table
				m={m}
				of={groups.length > 0 ? "operations" : ""}
				unit={groups.length > 0 ? "per second" : "IOPS"}
				rows={operations}
				show={rate}
			/>
			{together && <Table m={m} of="together" unit="per second" rows={atOnce(s)} show={rate} doubt="total" />}
			{s.feeds && <Feeds summary={s} />}
			{s.stores && <Stores m={m} summary={s} />}
			<p className="mt-2 text-sm opacity-80">
				{s.ending === "passes" ? "Finished in" : "Measured"} {seconds(s.measuredSeconds)}
				{s.warmUpSeconds > 0 && ` after ${seconds(s.warmUpSeconds)} of warm-up`}, {bytes(s.total.bytes)} moved
				{through(s.interface)}.{wentInWords(s)}
				{s.patience && ` ${s.patience.words}`}
				{s.service &&
					` Latency counts from the intended start; service time p50 ${seconds(s.service.p50Seconds)}, p99 ${seconds(s.service.p99Seconds)}.`}
			</p>
			<AgreedTable m={m} />
			<Findings m={m} />
			{s.faults?.map((f) => (
				<p key={(f.of ?? "") + f.kind} className="text-sm text-error">
					{f.count} × {f.of && `${f.of}: `}
					{f.kind}. The first: {f.first}
				</p>
			))}
			{s.unanswered ? (
				<p className="text-sm text-error">
					{s.unanswered} operations had no answer when the measurement gave up waiting.
				</p>
			) : null}
		</div>
	);
}
