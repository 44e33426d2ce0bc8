import createClient from "openapi-fetch";
import type { components, paths } from "./contract.gen";

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

/** Every call of the contract, with the types of its parameters and answers. */
const http = createClient<paths>({ fetch: refusing });

/** Makes a request, and throws what the service refuses it with. */
async function refusing(request: Request): Promise<Response> {
	for (const [name, value] of Object.entries(proof())) {
		request.headers.set(name, value);
	}
	let answer: Response;
	try {
		answer = await fetch(request);
	} catch (reason) {
		if (request.signal.aborted) {
			throw reason;
		}
		throw new CallError(0, { detail: "The service does not answer. Is it still running?" });
	}
	if (!answer.ok) {
		const problem = await answer.json().catch(() => ({ detail: `The service answered ${answer.status}.` }));
		throw new CallError(answer.status, problem);
	}
	return answer;
}

/** The answer of a success. */
async function given<T>(answer: Promise<{ data?: T }>): Promise<T> {
	return (await answer).data as T;
}

/** A feed, or a file that a call gives: its body is not JSON. */
export function open(path: string, signal?: AbortSignal): Promise<Response> {
	return refusing(new Request(prefix + path, { signal }));
}

export const api = {
	about: () => given(http.GET("/api/v1/about")),
	signIn: async (token: string) => {
		const signedIn = await given(http.POST("/api/v1/session", { body: { token } }));
		localStorage.setItem(proofKey, signedIn.proof);
	},
	signOut: async () => {
		await given(http.DELETE("/api/v1/session"));
		localStorage.removeItem(proofKey);
	},
	/** What a call gives, as a file. */
	file: async (path: string) => (await open(path)).blob(),
	volumes: () => given(http.GET("/api/v1/volumes", { params: { query: { limit: 500 } } })),
	array: (id: number) => given(http.GET("/api/v1/volumes/{id}/array", { params: { path: { id } } })),
	adjustments: (id: number, load: Schemas["Spec"]) =>
		given(http.POST("/api/v1/volumes/{id}/adjustments", { params: { path: { id } }, body: { load } })),
	runsOf: (volume: number) => given(http.GET("/api/v1/runs", { params: { query: { limit: 1, volume } } })),
	addVolume: (v: Schemas["NewVolume"]) => given(http.POST("/api/v1/volumes", { body: v })),
	leftovers: () => given(http.GET("/api/v1/leftovers", { params: { query: { limit: 500 } } })),
	removeLeftover: (id: number) => given(http.DELETE("/api/v1/leftovers/{id}", { params: { path: { id } } })),
	removeVolume: (id: number) => given(http.DELETE("/api/v1/volumes/{id}", { params: { path: { id } } })),
	runs: (before: number) =>
		given(http.GET("/api/v1/runs", { params: { query: { limit: 50, after: before } } })),
	run: (id: number) => given(http.GET("/api/v1/runs/{id}", { params: { path: { id } } })),
	startRun: (r: Schemas["NewRun"]) => given(http.POST("/api/v1/runs", { body: r })),
	stopRun: (id: number, afterMeasurement: boolean) =>
		given(http.POST("/api/v1/runs/{id}/stop", { params: { path: { id } }, body: { afterMeasurement } })),
	races: (id: number, position: number) =>
		given(http.GET("/api/v1/runs/{id}/races", { params: { path: { id }, query: { position } } })),
	removeRun: (id: number) => given(http.DELETE("/api/v1/runs/{id}", { params: { path: { id } } })),
	fields: () => given(http.GET("/api/v1/fields")),
	readLoad: (fields: Record<string, string>) => given(http.POST("/api/v1/loads", { body: { fields } })),
	presets: () => given(http.GET("/api/v1/presets")),
	readPlan: (text: string) => given(http.POST("/api/v1/plans", { body: { text } })),
	estimate: (p: Plan) => given(http.POST("/api/v1/estimates", { body: p })),
	series: (id: number) =>
		given(
			http.GET("/api/v1/measurements/{id}/series", { params: { path: { id }, query: { points: 3000 } } }),
		),
	look: (id: number, timeout = 0) =>
		given(http.GET("/api/v1/volumes/{id}/look", { params: { path: { id }, query: { timeout } } })),
	setupFields: () => given(http.GET("/api/v1/setup-fields")),
	setups: (id: number) =>
		given(http.GET("/api/v1/volumes/{id}/setups", { params: { path: { id }, query: { limit: 500 } } })),
	tellSetup: (id: number, told: Schemas["ToldSetup"]) =>
		given(http.PUT("/api/v1/volumes/{id}/setup", { params: { path: { id } }, body: told })),
	compare: (c: NewComparison) => given(http.POST("/api/v1/comparisons", { body: c })),
	comparisons: () => given(http.GET("/api/v1/comparisons", { params: { query: { limit: 500 } } })),
	comparison: (id: number) => given(http.GET("/api/v1/comparisons/{id}", { params: { path: { id } } })),
	comparisonReport: (c: NewComparison) =>
		given(http.POST("/api/v1/comparisons/report", { body: c, parseAs: "blob" })) as Promise<Blob>,
	needs: () => given(http.GET("/api/v1/needs", { params: { query: { limit: 500 } } })),
	need: (id: number) => given(http.GET("/api/v1/needs/{id}", { params: { path: { id } } })),
	keepNeed: (text: string) => given(http.POST("/api/v1/needs", { body: { text } })),
	changeNeed: (id: number, text: string) =>
		given(http.PUT("/api/v1/needs/{id}", { params: { path: { id } }, body: { text } })),
	removeNeed: (id: number) => given(http.DELETE("/api/v1/needs/{id}", { params: { path: { id } } })),
	judge: (asked: NewVerdicts) => given(http.POST("/api/v1/needs/judge", { body: asked })),
	decisionReport: (asked: NewVerdicts) =>
		given(http.POST("/api/v1/needs/report", { body: asked, parseAs: "blob" })) as Promise<Blob>,
	startSearch: (s: Schemas["NewSearch"]) => given(http.POST("/api/v1/searches", { body: s })),
	searches: () => given(http.GET("/api/v1/searches", { params: { query: { limit: 500 } } })),
	search: (id: number) => given(http.GET("/api/v1/searches/{id}", { params: { path: { id } } })),
	removeSearch: (id: number) => given(http.DELETE("/api/v1/searches/{id}", { params: { path: { id } } })),
	stopSearch: (id: number) => given(http.POST("/api/v1/searches/{id}/stop", { params: { path: { id } } })),
	twins: () => given(http.GET("/api/v1/twins", { params: { query: { limit: 500 } } })),
	twin: (id: number) => given(http.GET("/api/v1/twins/{id}", { params: { path: { id } } })),
	guessTwin: (volumeId: number) => given(http.POST("/api/v1/twins/guess", { body: { volumeId } })),
	fitTwin: (t: Schemas["NewTwin"]) => given(http.POST("/api/v1/twins", { body: t })),
	removeTwin: (id: number) => given(http.DELETE("/api/v1/twins/{id}", { params: { path: { id } } })),
	fits: () => given(http.GET("/api/v1/fits", { params: { query: { limit: 500 } } })),
	fit: (id: number) => given(http.GET("/api/v1/fits/{id}", { params: { path: { id } } })),
	stopFit: (id: number) => given(http.POST("/api/v1/fits/{id}/stop", { params: { path: { id } } })),
	predict: (twin: number, p: Schemas["NewPrediction"]) =>
		given(http.POST("/api/v1/twins/{id}/predictions", { params: { path: { id: twin } }, body: p })),
	removePrediction: (twin: number, id: number) =>
		given(
			http.DELETE("/api/v1/twins/{id}/predictions/{prediction}", {
				params: { path: { id: twin, prediction: id } },
			}),
		),
	efficiency: (asked: Schemas["NewEfficiency"]) => given(http.POST("/api/v1/efficiency", { body: asked })),
	removeComparison: (id: number) =>
		given(http.DELETE("/api/v1/comparisons/{id}", { params: { path: { id } } })),
	shape: (run: number, p99: number) =>
		given(http.GET("/api/v1/runs/{id}/shape", { params: { path: { id: run }, query: { p99 } } })),
	reach: (run: number) => given(http.GET("/api/v1/runs/{id}/reach", { params: { path: { id: run } } })),
	mark: (run: number, name: string) =>
		given(http.POST("/api/v1/runs/{id}/markers", { params: { path: { id: run } }, body: { name } })),
	measurement: (id: number) => given(http.GET("/api/v1/measurements/{id}", { params: { path: { id } } })),
	latency: (id: number) =>
		given(
			http.GET("/api/v1/measurements/{id}/latency", { params: { path: { id }, query: { perDecade: 40 } } }),
		),
};

/** Whether nothing about a run or measurement will change any more. */
export function isFinal(status: string): boolean {
	return ["finished", "stopped", "failed", "interrupted"].includes(status);
}
