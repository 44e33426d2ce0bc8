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

/** A verdict as a shape and a word. */
export function Verdict({ word }: { word: string }) {
	const [shape, colour] = shapes[word] ?? ["", ""];
	return (
		<span className={`whitespace-nowrap ${colour}`}>
			<span aria-hidden="true">{shape}</span> {word}
		</span>
	);
}
