import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { api, CallError, type Field, type Volume } from "../api/client";
import { FieldInput, VolumeChoice } from "../parts/field";
import { Empty, Trouble } from "../parts/shell";
import { estimate } from "./run";

/** Fields that are always shown, with what they begin with; the rest is folded away. */
const first: Record<string, string> = {
	block: "4KiB",
	reads: "70%",
	order: "random",
	depth: "32",
	workers: "1",
	span: "1GiB",
	for: "30s",
	warmUp: "2s",
};

const firstFiles = {
	files: "1000 x 64KiB",
	task: "put",
	passes: "1",
	depth: "16",
	workers: "1",
	flush: "",
	for: "",
};

const firstFeeds = {
	feeds: "4",
	feedRate: "25MB/s",
	frames: "",
	buffer: "1s",
	reads: "100%",
	workers: "1",
	span: "4GiB",
	for: "30s",
};

const firstStores = {
	stores: "1",
	requests: "put:1,get:1",
	value: "400B",
	log: "group-commit",
	clients: "16",
	memtable: "16MiB",
	span: "8GiB",
	for: "60s",
};

/** What is measured: blocks, files, feeds, stores, or what a plan says. */
type Way = "blocks" | "files" | "feeds" | "stores" | "plan";

const starts: Record<Way, Record<string, string>> = {
	blocks: first,
	files: firstFiles,
	feeds: firstFeeds,
	stores: firstStores,
	plan: first,
};

/** Chooses a volume and a load, and starts the run. */
export function Measure() {
	const navigate = useNavigate();
	const queries = useQueryClient();
	const [search] = useSearchParams();
	const volumes = useQuery({ queryKey: ["volumes"], queryFn: api.volumes });
	const fields = useQuery({ queryKey: ["fields"], queryFn: api.fields, staleTime: Number.POSITIVE_INFINITY });
	const [values, setValues] = useState<Record<string, string>>(first);
	const [volume, setVolume] = useState(Number(search.get("volume") ?? 0));
	const [others, setOthers] = useState<number[]>([]);
	const [race, setRace] = useState(false);
	const [name, setName] = useState("");
	const [repeats, setRepeats] = useState(1);
	const [pace, setPace] = useState(0);
	const [way, setWay] = useState<Way>("blocks");
	const planned = way === "plan";
	const main = starts[way];
	const choose = (to: Way) => {
		setWay(to);
		setValues(starts[to]);
		start.reset();
	};
	const [text, setText] = useState("");
	const baseline = volumes.data?.volumes?.find((v) => v.id === volume) ?? volumes.data?.volumes?.[0];
	const besides = others.filter((id) => id !== baseline?.id);
	const simulated = [baseline?.id, ...besides].some(
		(id) => volumes.data?.volumes?.find((v) => v.id === id)?.traits?.virtual,
	);
	const start = useMutation({
		mutationFn: async () => {
			const on = {
				name: name || undefined,
				volumeId: baseline?.id ?? 0,
				besideIds: besides,
				pace: simulated ? pace : 0,
			};
			const as = besides.length > 0 && race ? { beside: "race" as const } : {};
			if (planned) {
				const { plan } = await api.readPlan(text);
				return api.startRun({ ...on, plan: { ...plan, ...as } });
			}
			const typed = Object.fromEntries(Object.entries(values).filter(([, v]) => v !== ""));
			const { load } = await api.readLoad(typed);
			return api.startRun({ ...on, plan: { stages: [{ load, repeats }], ...as } });
		},
		onSuccess: (run) => {
			queries.invalidateQueries({ queryKey: ["runs"] });
			navigate(`/runs/${run.id}`);
		},
	});
	const trouble = volumes.error ?? fields.error;
	if (trouble) {
		return <Trouble error={trouble} />;
	}
	if (!volumes.data || !fields.data) {
		return null;
	}
	const list = volumes.data.volumes ?? [];
	if (list.length === 0) {
		return (
			<Empty>
				<p className="text-lg">There is no volume to measure yet.</p>
				<Link to="/volumes" className="btn btn-primary">
					Register a volume
				</Link>
			</Empty>
		);
	}
	const submit = (e: FormEvent) => {
		e.preventDefault();
		start.mutate();
	};
	const all = (fields.data.fields ?? []).filter((f) =>
		f.kinds?.includes(way === "files" || way === "feeds" || way === "stores" ? way : "block"),
	);
	const input = (f: Field) => (
		<FieldInput
			key={f.name}
			field={f}
			value={values[f.name] ?? ""}
			change={(v) => setValues({ ...values, [f.name]: v })}
			trouble={start.error instanceof CallError ? start.error.about(f.name) : undefined}
		/>
	);
	return (
		<form onSubmit={submit} className="max-w-4xl">
			<h1 className="mb-4 text-xl">Measure</h1>
			<div className="grid gap-4 sm:grid-cols-2">
				<VolumeChoice volumes={list} value={volume || list[0].id} change={setVolume} />
				<label className="flex flex-col gap-1">
					Name of the run (optional)
					<input
						className="input w-full"
						name="name"
						value={name}
						onChange={(e) => setName(e.target.value)}
					/>
				</label>
			</div>
			{list.length > 1 && (
				<Together
					volumes={list.filter((v) => v.id !== baseline?.id)}
					chosen={besides}
					choose={setOthers}
					race={race}
					setRace={setRace}
				/>
			)}
			<div role="tablist" aria-label="What to measure" className="tabs tabs-border mt-6 mb-2">
				{(["blocks", "files", "feeds", "stores", "plan"] as const).map((w) => (
					<button
						key={w}
						type="button"
						role="tab"
						aria-selected={way === w}
						className={`tab ${way === w ? "tab-active" : ""}`}
						onClick={() => choose(w)}
					>
						{{ blocks: "Blocks", files: "Files", feeds: "Feeds", stores: "Stores", plan: "A plan" }[w]}
					</button>
				))}
			</div>
			{planned ? (
				<PlanText text={text} change={setText} />
			) : (
				<>
					<div className="grid gap-4 sm:grid-cols-2 lg:grid-cols-4">
						{Object.keys(main)
							.flatMap((name) => all.filter((f) => f.name === name))
							.map(input)}
					</div>
					<details className="mt-4">
						<summary className="cursor-pointer py-1">More fields of the load</summary>
						<div className="mt-2 grid gap-4 sm:grid-cols-2 lg:grid-cols-4">
							{all.filter((f) => !(f.name in main)).map(input)}
						</div>
					</details>
					<label className="mt-4 flex w-40 flex-col gap-1">
						Repeats
						<input
							className="input w-full"
							name="repeats"
							type="number"
							min={1}
							max={1000}
							value={repeats}
							onChange={(e) => setRepeats(Number(e.target.value))}
						/>
					</label>
				</>
			)}
			{simulated && (
				<label className="mt-4 flex w-64 flex-col gap-1">
					Pace of the simulated array
					<select
						className="select w-full"
						name="pace"
						value={pace}
						onChange={(e) => setPace(Number(e.target.value))}
					>
						<option value={0}>as fast as it can</option>
						<option value={1}>1× the wall's clock</option>
						<option value={20}>20× the wall's clock</option>
					</select>
				</label>
			)}
			{start.error && <Trouble error={start.error} />}
			<button type="submit" className="btn btn-primary mt-6" disabled={start.isPending}>
				Measure
			</button>
		</form>
	);
}

/** Chooses volumes that are measured together with the first one, and how. */
function Together(props: {
	volumes: Volume[];
	chosen: number[];
	choose: (ids: number[]) => void;
	race: boolean;
	setRace: (race: boolean) => void;
}) {
	const { volumes, chosen, choose } = props;
	return (
		<details className="mt-4">
			<summary className="cursor-pointer py-1">
				Together with other volumes{chosen.length > 0 && `: ${chosen.length}`}
			</summary>
			<fieldset className="mt-1">
				<legend className="text-sm">
					Each gets a run of its own; they are compared in pairs with the first; at most eight
				</legend>
				<div className="max-h-48 overflow-auto rounded-field border border-base-300 p-2">
					{volumes.map((v) => (
						<label key={v.id} className="flex items-center gap-2 py-0.5">
							<input
								type="checkbox"
								className="checkbox checkbox-sm"
								checked={chosen.includes(v.id)}
								disabled={!chosen.includes(v.id) && chosen.length >= 8}
								onChange={(e) =>
									choose(e.target.checked ? [...chosen, v.id] : chosen.filter((id) => id !== v.id))
								}
							/>
							{v.name} ({v.locator})
						</label>
					))}
				</div>
				{chosen.length > 0 && (
					<div className="mt-2 flex flex-wrap gap-x-6 gap-y-1">
						{[false, true].map((race) => (
							<label key={String(race)} className="flex items-center gap-2">
								<input
									type="radio"
									name="as"
									className="radio radio-sm"
									checked={props.race === race}
									onChange={() => props.setRace(race)}
								/>
								{race
									? "A race: each measurement starts on all at once"
									: "Alternately: each measurement on one after the other, back and forth"}
							</label>
						))}
					</div>
				)}
			</fieldset>
		</details>
	);
}

/** A plan file to edit, begun from a preset, and what it would take. */
function PlanText({ text, change }: { text: string; change: (text: string) => void }) {
	const presets = useQuery({
		queryKey: ["presets"],
		queryFn: api.presets,
		staleTime: Number.POSITIVE_INFINITY,
	});
	const check = useMutation({ mutationFn: () => api.readPlan(text) });
	const choose = (key: string) => {
		const preset = presets.data?.presets?.find((p) => p.key === key);
		if (preset) {
			check.reset();
			change(preset.text);
		}
	};
	return (
		<div className="flex flex-col gap-3">
			<label className="flex flex-col gap-1">
				Start from a preset
				<select
					className="select w-full"
					name="preset"
					defaultValue=""
					onChange={(e) => choose(e.target.value)}
				>
					<option value="" disabled>
						Choose one…
					</option>
					{presets.data?.presets?.map((p) => (
						<option key={p.key} value={p.key}>
							{p.plan.name} ({p.purpose}): {p.plan.why}
						</option>
					))}
				</select>
			</label>
			<label className="flex flex-col gap-1">
				Plan file (YAML)
				<textarea
					className="textarea h-80 w-full font-mono text-sm"
					name="plan"
					spellCheck={false}
					value={text}
					onChange={(e) => {
						check.reset();
						change(e.target.value);
					}}
					required
				/>
			</label>
			<div className="flex items-baseline gap-3">
				<button type="button" className="btn btn-sm" disabled={text === ""} onClick={() => check.mutate()}>
					Check
				</button>
				{check.data && <span role="status">It takes {estimate(check.data.estimate)}.</span>}
			</div>
			{check.error && <Trouble error={check.error} />}
		</div>
	);
}
