import type { ReactNode } from "react";
import type { Hop, UseCeilings } from "../api/client";
import { iops, throughput } from "./format";

/** Each factor of ten below the largest takes a fifth off. */
function width(rate: number, largest: number): number {
	return Math.max(4, 100 + 20 * Math.log10(rate / largest));
}

/** What a hop passes, in the unit that suits the use. */
export function passes(use: UseCeilings, rate: number): string {
	return use.large ? throughput(rate * use.blockBytes) : iops(rate);
}

/**
 * The hops of a setup for one use, each as wide as what it can carry. The dark part is how much of
 * it was used, when that is known.
 */
export function Hops(props: {
	use: UseCeilings;
	used?: (hop: Hop) => number | undefined;
	beside?: (hop: Hop) => ReactNode;
}) {
	const hops = props.use.hops ?? [];
	const largest = Math.max(1, ...hops.map((h) => h.rate));
	if (hops.length === 0) {
		return <p className="opacity-80">No hop is known. Tell the setup of this volume, below.</p>;
	}
	return (
		<ol className="flex flex-col gap-3">
			{hops.map((h) => {
				const limit = h.name === props.use.limit;
				return (
					<li key={h.name} className="grid items-center gap-x-4 sm:grid-cols-[8rem_1fr_16rem]">
						<span className={limit ? "font-medium" : ""}>
							{h.name}
							{limit && " (limit)"}
							{h.name === props.use.next && " (next)"}
						</span>
						<div>
							<div
								className={`h-8 rounded-field border ${
									h.rate === 0
										? "border-dashed border-base-content/40"
										: limit
											? "border-primary bg-primary/25"
											: "border-base-300 bg-base-200"
								}`}
								style={{ width: `${h.rate === 0 ? 100 : width(h.rate, largest)}%` }}
							>
								<div
									className="h-full rounded-field bg-primary/60"
									style={{ width: `${Math.min(props.used?.(h) ?? 0, 1) * 100}%` }}
								/>
							</div>
							<span className="text-xs opacity-70">{h.formula}</span>
							{h.long !== h.rate && (
								<span className="block text-xs">
									For long {h.long === 0 ? "not known" : passes(props.use, h.long)}: {h.longFormula}
								</span>
							)}
						</div>
						<span className="text-right">
							{h.rate === 0 ? "not known" : passes(props.use, h.rate)}
							{props.beside?.(h)}
						</span>
					</li>
				);
			})}
		</ol>
	);
}
