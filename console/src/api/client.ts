import type { components } from "./contract.gen";

export type Schemas = components["schemas"];
export type Run = Schemas["Run"];
export type RunDetail = Schemas["RunDetail"];
export type RunList = Schemas["RunList"];
export type Volume = Schemas["Volume"];
export type Measurement = Schemas["Measurement"];
export type Interval = Schemas["Interval"];
export type Figures = Schemas["Figures"];
export type Series = Schemas["Series"];
export type Distribution = Schemas["Distribution"];
export type Spec = Schemas["Spec"];
export type Field = Schemas["Field"];
export type About = Schemas["About"];
export type Plan = Schemas["Plan"];
export type Estimate = Schemas["Estimate"];
export type Counter = Schemas["Counter"];
export type Finding = Schemas["Finding"];
export type Look = Schemas["Look"];
export type Check = Schemas["Check"];
export type Layer = Schemas["Layer"];
export type Setup = Schemas["Setup"];
export type SetupField = Schemas["FactField"];
export type UseCeilings = Schemas["UseCeilings"];
export type Hop = Schemas["Hop"];
export type Marker = Schemas["Marker"];
export type Shape = Schemas["Shape"];
export type Line = Schemas["Line"];
export type Conclusion = Schemas["Conclusion"];
export type Alone = Schemas["Alone"];
export type Compared = Schemas["Compared"];
export type Match = Schemas["Match"];
export type Outcome = Schemas["Outcome"];
export type Values = Schemas["Values"];
export type Candidate = Schemas["Candidate"];
export type Race = Schemas["NamedRace"];
export type Figure = Schemas["Figure"];
export type NewComparison = Schemas["NewComparison"];
export type Judgement = Schemas["Judgement"];
export type Search = Schemas["Search"];
export type Twin = Schemas["Twin"];
export type Fitting = Schemas["Fitting"];
export type Prediction = Schemas["Prediction"];
export type NewVerdicts = Schemas["NewVerdicts"];
type Problem = Partial<Schemas["ErrorModel"]>;

const prefix = "/api/v1";

/**
 * What goes with each call beside the cookie. Browsers share cookies between
 * the ports of a host; this they keep for the pages of one origin.
 */
const proofKey = "heron-proof";

function proof(): Record<string, string> {
	const kept = localStorage.getItem(proofKey);
	return kept ? { "Heron-Proof": kept } : {};
}

/** An error answer of the service (RFC 9457). */
export class CallError extends Error {
	constructor(
		readonly status: number,
		readonly problem: Problem,
	) {
		super(problem.detail ?? problem.title ?? `The service answered ${status}.`);
	}

	/** The message about one field of a form, if there is one. */
	about(field: string): string | undefined {
		return this.problem.errors?.find((e) => e.location === field)?.message;
	}
}

async function call<T>(method: string, path: string, body?: unknown): Promise<T> {
	const answer = await send(method, path, body);
	if (answer.status === 204 || answer.status === 202) {
		return undefined as T;
	}
	return answer.json();
}

/** Makes one call and gives back the answer of a success. */
export async function send(
	method: string,
	path: string,
	body?: unknown,
	signal?: AbortSignal,
): Promise<Response> {
	let answer: Response;
	try {
		answer = await fetch(prefix + path, {
			method,
			headers: { ...proof(), ...(body === undefined ? {} : { "Content-Type": "application/json" }) },
			body: body === undefined ? undefined : JSON.stringify(body),
			signal,
		});
	} catch {
		throw new CallError(0, { detail: "The service does not answer. Is it still running?" });
	}
	if (!answer.ok) {
		const problem = await answer.json().catch(() => ({ detail: `The service answered ${answer.status}.` }));
		throw new CallError(answer.status, problem);
	}
	return answer;
}

export const api = {
	about: () => call<About>("GET", "/about"),
	signIn: async (token: string) => {
		const signedIn = await call<Schemas["SignedIn"]>("POST", "/session", { token });
		localStorage.setItem(proofKey, signedIn.proof);
	},
	signOut: async () => {
		await call<void>("DELETE", "/session");
		localStorage.removeItem(proofKey);
	},
	/** What a call gives, as a file. */
	file: async (path: string) => (await send("GET", path)).blob(),
	volumes: () => call<Schemas["VolumeList"]>("GET", "/volumes?limit=500"),
	array: (id: number) => call<Schemas["Explanation"]>("GET", `/volumes/${id}/array`),
	adjustments: (id: number, load: Schemas["Spec"]) =>
		call<Schemas["Adjustments"]>("POST", `/volumes/${id}/adjustments`, { load }),
	runsOf: (volume: number) => call<RunList>("GET", `/runs?limit=1&volume=${volume}`),
	addVolume: (v: Schemas["NewVolume"]) => call<Volume>("POST", "/volumes", v),
	leftovers: () => call<Schemas["LeftoverList"]>("GET", "/leftovers?limit=500"),
	removeLeftover: (id: number) => call<void>("DELETE", `/leftovers/${id}`),
	removeVolume: (id: number) => call<void>("DELETE", `/volumes/${id}`),
	runs: (before: number) => call<RunList>("GET", `/runs?limit=50&after=${before}`),
	run: (id: number) => call<RunDetail>("GET", `/runs/${id}`),
	startRun: (r: Schemas["NewRun"]) => call<Run>("POST", "/runs", r),
	stopRun: (id: number, afterMeasurement: boolean) =>
		call<void>("POST", `/runs/${id}/stop`, { afterMeasurement }),
	races: (id: number, position: number) =>
		call<Schemas["Races"]>("GET", `/runs/${id}/races?position=${position}`),
	removeRun: (id: number) => call<void>("DELETE", `/runs/${id}`),
	fields: () => call<Schemas["FieldList"]>("GET", "/fields"),
	readLoad: (fields: Record<string, string>) => call<Schemas["ReadLoad"]>("POST", "/loads", { fields }),
	presets: () => call<Schemas["PresetList"]>("GET", "/presets"),
	readPlan: (text: string) => call<Schemas["ReadPlan"]>("POST", "/plans", { text }),
	estimate: (p: Plan) => call<Estimate>("POST", "/estimates", p),
	series: (id: number) => call<Series>("GET", `/measurements/${id}/series?points=3000`),
	look: (id: number, timeout = 0) => call<Look>("GET", `/volumes/${id}/look?timeout=${timeout}`),
	setupFields: () => call<Schemas["SetupFields"]>("GET", "/setup-fields"),
	setups: (id: number) => call<Schemas["SetupVersions"]>("GET", `/volumes/${id}/setups?limit=500`),
	tellSetup: (id: number, told: Schemas["ToldSetup"]) =>
		call<Schemas["SetupVersion"]>("PUT", `/volumes/${id}/setup`, told),
	compare: (c: NewComparison) => call<Compared>("POST", "/comparisons", c),
	comparisons: () => call<Schemas["ComparisonList"]>("GET", "/comparisons?limit=500"),
	comparison: (id: number) => call<Compared>("GET", `/comparisons/${id}`),
	comparisonReport: async (c: NewComparison) => (await send("POST", "/comparisons/report", c)).blob(),
	needs: () => call<Schemas["NeedList"]>("GET", "/needs?limit=500"),
	need: (id: number) => call<Schemas["NeedSheet"]>("GET", `/needs/${id}`),
	keepNeed: (text: string) => call<Schemas["NeedSheet"]>("POST", "/needs", { text }),
	changeNeed: (id: number, text: string) => call<Schemas["NeedSheet"]>("PUT", `/needs/${id}`, { text }),
	removeNeed: (id: number) => call<void>("DELETE", `/needs/${id}`),
	judge: (asked: NewVerdicts) => call<Schemas["Verdicts"]>("POST", "/needs/judge", asked),
	decisionReport: async (asked: NewVerdicts) => (await send("POST", "/needs/report", asked)).blob(),
	startSearch: (s: Schemas["NewSearch"]) => call<Search>("POST", "/searches", s),
	searches: () => call<Schemas["SearchList"]>("GET", "/searches?limit=500"),
	search: (id: number) => call<Search>("GET", `/searches/${id}`),
	removeSearch: (id: number) => call<void>("DELETE", `/searches/${id}`),
	stopSearch: (id: number) => call<void>("POST", `/searches/${id}/stop`),
	twins: () => call<Schemas["TwinList"]>("GET", "/twins?limit=500"),
	twin: (id: number) => call<Twin>("GET", `/twins/${id}`),
	guessTwin: (volumeId: number) => call<Schemas["ArrayText"]>("POST", "/twins/guess", { volumeId }),
	fitTwin: (t: Schemas["NewTwin"]) => call<Fitting>("POST", "/twins", t),
	removeTwin: (id: number) => call<void>("DELETE", `/twins/${id}`),
	fits: () => call<Schemas["FitList"]>("GET", "/fits?limit=500"),
	fit: (id: number) => call<Fitting>("GET", `/fits/${id}`),
	stopFit: (id: number) => call<void>("POST", `/fits/${id}/stop`),
	predict: (twin: number, p: Schemas["NewPrediction"]) =>
		call<Prediction>("POST", `/twins/${twin}/predictions`, p),
	removePrediction: (twin: number, id: number) => call<void>("DELETE", `/twins/${twin}/predictions/${id}`),
	efficiency: (asked: Schemas["NewEfficiency"]) => call<Schemas["Efficiency"]>("POST", "/efficiency", asked),
	removeComparison: (id: number) => call<void>("DELETE", `/comparisons/${id}`),
	shape: (run: number, p99: number) => call<Shape>("GET", `/runs/${run}/shape?p99=${p99}`),
	reach: (run: number) => call<Schemas["Reaches"]>("GET", `/runs/${run}/reach`),
	mark: (run: number, name: string) => call<Marker>("POST", `/runs/${run}/markers`, { name }),
	measurement: (id: number) => call<Measurement>("GET", `/measurements/${id}`),
	latency: (id: number) => call<Distribution>("GET", `/measurements/${id}/latency?perDecade=40`),
};

/** Whether nothing about a run or measurement will change any more. */
export function isFinal(status: string): boolean {
	return ["finished", "stopped", "failed", "interrupted"].includes(status);
}
