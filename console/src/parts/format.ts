/** Three significant digits, whole numbers from 100 on. */
export function digits(value: number): string {
	if (value === 0) {
		return "0";
	}
	const magnitude = Math.abs(value);
	if (magnitude >= 99.95) {
		return Number(value.toPrecision(3)).toLocaleString("en").replaceAll(",", " ");
	}
	const decimals = Math.min(Math.max(2 - Math.floor(Math.log10(magnitude)), 0), 9);
	return value.toFixed(decimals);
}

function scaled(value: number, units: [number, string][]): string {
	const [scale, unit] = units.find(([s]) => Math.abs(value) >= s * 0.9995) ?? units[units.length - 1];
	return `${digits(value / scale)} ${unit}`;
}

export const iops = (v: number) =>
	scaled(v, [
		[1e6, "M IOPS"],
		[1e3, "k IOPS"],
		[1, "IOPS"],
	]);

export const files = (v: number) =>
	scaled(v, [
		[1e6, "M files/s"],
		[1e3, "k files/s"],
		[1, "files/s"],
	]);

/** A rate for a column whose head says IOPS. */
export const requests = (v: number) => iops(v).replace(/IOPS$/, "requests/s");
export const rate = (v: number) => iops(v).replace(/ ?IOPS$/, "");

export const throughput = (v: number) =>
	scaled(v, [
		[1e9, "GB/s"],
		[1e6, "MB/s"],
		[1e3, "kB/s"],
		[1, "B/s"],
	]);

export const seconds = (v: number) =>
	scaled(v, [
		[1, "s"],
		[1e-3, "ms"],
		[1e-6, "µs"],
		[1e-9, "ns"],
	]);

/** Drives are sold by powers of ten, everything else goes by powers of two. */
const sold: [number, string][] = [
	[1e12, "TB"],
	[1e9, "GB"],
];

export function bytes(v: number): string {
	const round = sold.find(([s]) => v > 0 && v % s === 0 && v / s < 1e4 && v % 2 ** 20 !== 0);
	if (round) {
		return `${v / round[0]} ${round[1]}`;
	}
	return scaled(v, [
		[2 ** 40, "TiB"],
		[2 ** 30, "GiB"],
		[2 ** 20, "MiB"],
		[2 ** 10, "KiB"],
		[1, "B"],
	]);
}

export const share = (v: number) => `${digits(v * 100)} %`;

export function moment(iso?: string): string {
	return iso ? new Date(iso).toLocaleString("en-GB", { dateStyle: "medium", timeStyle: "short" }) : "";
}

/** A price for people. */
export const price = (v: number) =>
	v >= 1000 ? Math.round(v).toLocaleString("en").replaceAll(",", " ") : digits(v);
