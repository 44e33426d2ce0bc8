import { useEffect, useState } from "react";
import { type Interval, isFinal, type Measurement, prefix, type Run } from "./client";

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
		const source = new EventSource(`${prefix}/runs/${id}/events`);
		source.onopen = () => setFeed((f) => ({ ...f, broken: false }));
		source.onerror = () => setFeed((f) => ({ ...f, broken: true }));
		source.addEventListener("run", (e) => {
			const run: Run = JSON.parse(e.data);
			setFeed((f) => ({ ...f, run }));
			if (isFinal(run.status)) {
				source.close();
			}
		});
		source.addEventListener("measurement", (e) => {
			const m: Measurement = JSON.parse(e.data);
			setFeed((f) => ({
				...f,
				measurements: [...f.measurements.filter((o) => o.id !== m.id), m].sort(
					(a, b) => a.position - b.position,
				),
			}));
		});
		source.addEventListener("point", (e) => {
			const { measurementId, interval }: { measurementId: number; interval: Interval } = JSON.parse(e.data);
			setFeed((f) => {
				const known = f.points[measurementId] ?? [];
				if (known.some((i) => i.index === interval.index)) {
					return f;
				}
				return { ...f, points: { ...f.points, [measurementId]: [...known, interval] } };
			});
		});
		return () => source.close();
	}, [id]);
	return feed;
}
