import type { Figures, Interval } from "../api/client";
import type { Colours } from "./chart";

/**
 * The classes of operation, as the API names them, in the order in which they
 * are shown. What moves bytes of the load has a curve of its own and counts in
 * totals; the rest is a row in the table of figures.
 */
const known = [
	{ name: "reads", moves: true },
	{ name: "writes", moves: true },
	{ name: "flushes", moves: false },
	{ name: "trims", moves: false },
	{ name: "zeroes", moves: true },
	{ name: "copies", moves: true },
	{ name: "swaps", moves: true },
	{ name: "opens", moves: false },
	{ name: "creates", moves: false },
	{ name: "closes", moves: false },
	{ name: "truncates", moves: false },
	{ name: "attributes", moves: false },
	{ name: "lists", moves: false },
	{ name: "renames", moves: false },
	{ name: "removes", moves: false },
	{ name: "folders", moves: false },
];

/** The class of whole files: all that is done with one, from its first operation to its last. */
export const wholeFiles = "files";

/** Whether whole files tell how fast a load is: of files, not of some beside other loads. */
export const byFiles = (load: { kind?: string }, by: Record<string, unknown>): boolean =>
	wholeFiles in by && (load.kind === "files" || moving(by).length === 0);

/** Names of the classes that have a curve of latencies: what moves bytes, or whole files of a load of files. */
export const timed = (load: { kind?: string }, by: Record<string, unknown>): string[] =>
	byFiles(load, by) ? [wholeFiles] : moving(by);

/** Names of the classes that something was counted of and that move bytes. */
export const moving = (by: Record<string, unknown>): string[] =>
	known.filter((c) => c.moves && c.name in by).map((c) => c.name);

/** Names of those that move none. */
export const others = (by: Record<string, unknown>): string[] =>
	known.filter((c) => !c.moves && c.name in by).map((c) => c.name);

type Flow = Interval["classes"][string];

const nothing: Flow = {
	operations: 0,
	bytes: 0,
	rate: 0,
	throughputBytesPerSecond: 0,
	meanSeconds: 0,
	p50Seconds: 0,
	p99Seconds: 0,
	maxSeconds: 0,
};

/** What a class came to in an interval. */
export const flow = (i: Interval, name: string): Flow => i.classes[name] ?? nothing;

/** What moved bytes in an interval, of all classes together. */
export function moved(i: Interval): { bytes: number; throughput: number } {
	const flows = moving(i.classes).map((name) => flow(i, name));
	return {
		bytes: flows.reduce((sum, f) => sum + f.bytes, 0),
		throughput: flows.reduce((sum, f) => sum + f.throughputBytesPerSecond, 0),
	};
}

/** The rows of a table of figures: class, look and figures, with a total where it says more. */
export function rows(by: Record<string, Figures>, total: Figures): [string, string, Figures][] {
	const all: [string, string, Figures][] = moving(by).map((name) => [name, name, by[name]]);
	if (all.length > 1) {
		all.push(["total", "", total]);
	}
	for (const name of others(by)) {
		all.push([name, "", by[name]]);
	}
	return all;
}

/** Colour and shape of a class's line, the same everywhere. */
export function look(name: string, c: Colours) {
	if (name === wholeFiles) {
		return { colour: c.baseline, symbol: "diamond", type: "solid" };
	}
	const reads = name === "reads";
	return {
		colour: reads ? c.read : c.write,
		symbol: reads ? "circle" : "triangle",
		type: reads ? "solid" : "dashed",
	};
}
