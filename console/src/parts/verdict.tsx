const shapes: Record<string, [string, string]> = {
	better: ["▲", "text-secondary"],
	worse: ["▼", "text-error"],
	same: ["=", ""],
	"not shown": ["~", ""],
	hint: ["…", ""],
	missing: ["✕", ""],
	meets: ["✓", "text-secondary"],
	"falls short": ["▼", "text-error"],
	"not measured": ["○", ""],
};

/** A verdict as a shape and a word; bare where words follow that say it. */
export function Verdict({ word, bare = false }: { word: string; bare?: boolean }) {
	const [shape, colour] = shapes[word] ?? ["", ""];
	return (
		<span className={`whitespace-nowrap ${colour}`}>
			<span aria-hidden="true">{shape}</span> {!bare && word}
		</span>
	);
}

/** The shape and the colour of a verdict, for where a figure takes the place of its word. */
export const shapeOf = (word: string) => shapes[word] ?? ["", ""];
