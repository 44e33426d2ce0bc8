import type { EChartsCoreOption, EChartsType } from "echarts/core";
import { useEffect, useRef } from "react";
import { api } from "../api/client";
import { useTheme } from "./theme";

/** Loads the drawing library when the first chart is shown. */
const library = () => import("./echarts");

export interface ChartProps {
	title: string;
	/** What the chart says, for those who cannot see it. */
	summary: string;
	/** How to read it, where that does not show. */
	note?: string;
	/** Data of the chart as rows with a header, for the CSV download. */
	table: () => (string | number)[][];
	option: (colours: Colours) => EChartsCoreOption;
	height?: number;
}

/** One side's line in a chart: its colour, dash and mark. */
export function sideLine(side: number, c: Colours) {
	const n = side % sideMarks.length;
	return {
		color: c.sides[n],
		symbol: sideMarks[n],
		symbolSize: 5,
		lineStyle: { width: 1.75, color: c.sides[n], type: sideDashes[n] },
	};
}

/** An interval, and the part of the axis that is drawn for it. */
export interface Bar {
	at: number;
	low: number;
	high: number;
	least: number;
	most: number;
}

/** How to read intervalBars. */
export const intervalNote = "Bars are 95 % intervals over the repeats; one without an end extends further.";

/** Intervals as upright bars. Where one reaches beyond what is drawn it has no end. */
export function intervalBars(name: string, colour: string, bars: Bar[]) {
	const style = { stroke: colour, lineWidth: 1.3 };
	return {
		type: "custom",
		clip: true,
		name,
		silent: true,
		tooltip: { show: false },
		// biome-ignore lint/suspicious/noExplicitAny: the drawing library's own shape
		renderItem: (_: unknown, drawn: any) => {
			const ends = [1, 2].map((side) => drawn.coord([drawn.value(0), drawn.value(side)]));
			const [[x, low], [, high]] = ends;
			const whole = [3, 4].map((side) => drawn.value(side) > 0);
			return {
				type: "group",
				children: [
					{ type: "line", shape: { x1: x, x2: x, y1: low, y2: high }, style },
					...ends
						.filter((_, n) => whole[n])
						.map(([, y]) => ({ type: "line", shape: { x1: x - 4, x2: x + 4, y1: y, y2: y }, style })),
				],
			};
		},
		data: bars.map((b) => [
			b.at,
			Math.max(b.low, b.least),
			Math.min(b.high, b.most),
			b.low >= b.least ? 1 : 0,
			b.high <= b.most ? 1 : 0,
		]),
		encode: { x: 0, y: [1, 2] }, // so that the axis reaches to their ends
	};
}

/** An axis from zero on that leaves room above what is drawn, for names. */
export function roomAbove(top: number) {
	const rough = (top || 1) / 5;
	const power = 10 ** Math.floor(Math.log10(rough));
	const interval = power * ([1, 2, 2.5, 5].find((n) => n * power >= rough) ?? 10);
	return { min: 0, max: Math.ceil((top * 1.15) / interval) * interval || interval, interval };
}

/** The colours with a meaning, of the theme in use. */
export interface Colours {
	read: string;
	write: string;
	baseline: string;
	ink: string;
	grid: string;
	paper: string;
	/** Of the baseline and the candidates, in order. */
	sides: string[];
}

const daySides = [
	"#47627a",
	"#2f7d5c",
	"#a05f12",
	"#6b4fa0",
	"#1d7487",
	"#8f3d6b",
	"#5c6b1e",
	"#7a4a2b",
	"#333f47",
];
const nightSides = [
	"#9fb2c0",
	"#7fd0a8",
	"#e6b260",
	"#bba3ea",
	"#71c7da",
	"#e59ac2",
	"#c0cf72",
	"#d9a787",
	"#dfe6e6",
];

/** How the lines of the sides differ beside their colour. */
export const sideDashes = [
	"solid",
	[8, 4],
	[3, 3],
	[10, 3, 2, 3],
	[5, 5],
	[12, 4],
	[2, 5],
	[6, 2, 2, 2],
	[14, 3],
];
export const sideMarks = [
	"circle",
	"triangle",
	"rect",
	"diamond",
	"pin",
	"arrow",
	"roundRect",
	"emptyCircle",
	"emptyRect",
];

function colours(): Colours {
	const style = getComputedStyle(document.documentElement);
	const get = (name: string) => style.getPropertyValue(name).trim();
	return {
		read: get("--color-secondary"),
		write: get("--color-accent"),
		baseline: get("--color-neutral"),
		ink: get("--color-base-content"),
		grid: get("--color-base-300"),
		paper: get("--color-base-100"),
		sides: style.colorScheme === "dark" ? nightSides : daySides,
	};
}

export function Chart({ title, summary, note, table, option, height = 220 }: ChartProps) {
	const box = useRef<HTMLDivElement>(null);
	const chart = useRef<EChartsType>(undefined);
	const { dark } = useTheme();

	// biome-ignore lint/correctness/useExhaustiveDependencies: a change of theme changes the colours
	useEffect(() => {
		let gone = false;
		const observer = new ResizeObserver(() => chart.current?.resize());
		library().then(({ init }) => {
			if (gone || !box.current) {
				return;
			}
			chart.current ??= init(box.current);
			chart.current.setOption(base(option(colours()), box.current.clientWidth), { notMerge: true });
			observer.observe(box.current);
		});
		return () => {
			gone = true;
			observer.disconnect();
		};
	}, [option, dark]);

	useEffect(() => () => chart.current?.dispose(), []);

	const png = () => {
		const url = chart.current?.getDataURL({ pixelRatio: 2, backgroundColor: colours().paper });
		if (url) {
			download(url, `${fileName(title)}.png`);
		}
	};
	const csv = () => {
		const text = table()
			.map((row) => row.map(cell).join(","))
			.join("\r\n");
		const url = URL.createObjectURL(new Blob([`${text}\r\n`], { type: "text/csv" }));
		download(url, `${fileName(title)}.csv`);
		URL.revokeObjectURL(url);
	};
	return (
		<figure className="min-w-0">
			<figcaption className="flex items-baseline justify-between gap-2">
				<h3 className="font-medium">{title}</h3>
				<span className="flex gap-1 print:hidden">
					<button
						type="button"
						className="btn btn-ghost btn-xs"
						onClick={png}
						aria-label={`Save “${title}” as PNG`}
					>
						PNG
					</button>
					<button
						type="button"
						className="btn btn-ghost btn-xs"
						onClick={csv}
						aria-label={`Save the data of “${title}” as CSV`}
					>
						CSV
					</button>
				</span>
			</figcaption>
			<div ref={box} style={{ height }} role="img" aria-label={summary} />
			<p className="sr-only">{summary}</p>
			{note && <p className="text-xs opacity-70">{note}</p>}
		</figure>
	);
}

/** Where the legend begins, and what its entries take beside their text. */
const legendLeft = 116;
const legendEntry = 22 + 5 + 10;

/** How many lines the names of the series need beside each other, none of them cut. */
function legendLines(option: EChartsCoreOption, width: number): number {
	const series = [option.series].flat() as { name?: string }[];
	const chosen = (option.legend as { data?: string[] } | undefined)?.data;
	const names = [...new Set(chosen ?? series.map((s) => s?.name ?? ""))].filter((n) => n !== "");
	const room = Math.max(width - legendLeft, 120);
	let lines = 1;
	let used = 0;
	for (const name of names) {
		const needs = name.length * 6.8 + legendEntry;
		if (used > 0 && used + needs > room) {
			lines++;
			used = 0;
		}
		used += needs;
	}
	return lines;
}

/** What all charts share, in a box of a width. */
function base(option: EChartsCoreOption, width: number): EChartsCoreOption {
	const c = colours();
	const axis = (a: { axisLabel?: object; splitLine?: object }) => ({
		axisLine: { lineStyle: { color: c.grid } },
		axisTick: { show: false },
		nameTextStyle: { color: c.ink },
		...a,
		axisLabel: { color: c.ink, hideOverlap: true, ...a.axisLabel },
		splitLine: { lineStyle: { color: c.grid, opacity: 0.6 }, ...a.splitLine },
	});
	return {
		animation: false,
		textStyle: { fontFamily: "system-ui, sans-serif", color: c.ink },
		grid: { left: 62, right: 14, top: 10 + 18 * legendLines(option, width), bottom: 42 },
		tooltip: {
			trigger: "axis",
			backgroundColor: c.paper,
			borderColor: c.grid,
			textStyle: { color: c.ink },
			confine: true,
		},

		...option,
		legend: {
			top: 0,
			right: 0,
			left: legendLeft,
			itemGap: 10,
			align: "left",
			textStyle: { color: c.ink },
			itemWidth: 22,
			itemHeight: 8,
			...(option.legend as object),
		},
		xAxis: axis(option.xAxis as object),
		yAxis: axis(option.yAxis as object),
	};
}

function cell(value: string | number): string {
	// Text that a spreadsheet would take for a formula is quoted for it.
	const text = typeof value === "string" && /^[=+\-@\t\r\n|%]/.test(value) ? `'${value}` : String(value);
	return /[",\r\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text;
}

function fileName(title: string): string {
	return title.toLowerCase().replaceAll(/[^a-z0-9]+/g, "-");
}

/** Saves what a call gives as a file. */
export async function save(path: string, name: string) {
	const url = URL.createObjectURL(await api.file(path));
	download(url, name);
	URL.revokeObjectURL(url);
}

/** Saves what an address of this page holds as a file. */
export function download(url: string, name: string) {
	const link = document.createElement("a");
	link.href = url;
	link.download = name;
	link.click();
}
