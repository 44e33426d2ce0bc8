import { useEffect, useState } from "react";
import { type Interval, isFinal, type Measurement, open, type Run } from "./client";

/** What is known of a run from its live feed. */
export interface Feed {
	run?: Run;
	measurements: Measurement[];
	/** Intervals by measurement id, in order of their index. */
	points: Record<number, Interval[]>;
	/** Whether the feed broke off and is being taken up again. */
	broken: boolean;
}

/** Follows a run until it has ended. */
export function useFeed(id: number): Feed {
	const [feed, setFeed] = useState<Feed>({ measurements: [], points: {}, broken: false });
	useEffect(() => {
		setFeed({ measurements: [], points: {}, broken: false });
		const leaving = new AbortController();
		follow(id, leaving.signal, (change) => setFeed(change));
		return () => leaving.abort();
	}, [id]);
	return feed;
}

type Change = (f: Feed) => Feed;

/** Watches a run, and takes the feed up again when it breaks off. */
async function follow(id: number, leaving: AbortSignal, tell: (change: Change) => void) {
	while (!leaving.aborted) {
		let final = false;
		try {
			for await (const { event, data } of events(`/runs/${id}/events`, leaving)) {
				final ||= event === "run" && isFinal(JSON.parse(data).status);
				tell((f) => ({ ...told(f, event, data), broken: false }));
			}
		} catch {
			// said below; what is wrong with the run itself is said by its page
		}
		if (final || leaving.aborted) {
			return;
		}
		tell((f) => ({ ...f, broken: true }));
		await new Promise((resolve) => setTimeout(resolve, 2000));
	}
}

/**
 * Reads server-sent events. The browser's own reader cannot send the proof that
 * goes with each call.
 */
async function* events(path: string, leaving: AbortSignal) {
	const answer = await open(path, leaving);
	const reader = answer.body?.pipeThrough(new TextDecoderStream()).getReader();
	let text = "";
	while (reader) {
		const { done, value } = await reader.read();
		if (done) {
			return;
		}
		text += value;
		for (let end = text.indexOf("\n\n"); end >= 0; end = text.indexOf("\n\n")) {
			const lines = text.slice(0, end).split("\n");
			text = text.slice(end + 2);
			const of = (name: string) => lines.find((l) => l.startsWith(name))?.slice(name.length) ?? "";
			yield { event: of("event: "), data: of("data: ") };
		}
	}
}

/** The feed with one event more. */
function told(f: Feed, event: string, data: string): Feed {
	if (event === "run") {
		return { ...f, run: JSON.parse(data) };
	}
	if (event === "measurement") {
		const m: Measurement = JSON.parse(data);
		const measurements = [...f.measurements.filter((o) => o.id !== m.id), m];
		return { ...f, measurements: measurements.sort((a, b) => a.position - b.position) };
	}
	if (event === "point") {
		const { measurementId, interval }: { measurementId: number; interval: Interval } = JSON.parse(data);
		const known = f.points[measurementId] ?? [];
		if (!known.some((i) => i.index === interval.index)) {
			return { ...f, points: { ...f.points, [measurementId]: [...known, interval] } };
		}
	}
	return f;
}
