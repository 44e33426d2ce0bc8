import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useEffect, useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { api, CallError, type Plan, type Schemas } from "../api/client";
import { FieldInput, VolumeChoice } from "../parts/field";
import { Empty, Trouble } from "../parts/shell";
import { estimate } from "./run";

/** The load that is begun with: short, because it is measured many times. */
const first: Record<string, string> = {
	block: "64KiB",
	reads: "100%",
	order: "random",
	depth: "8",
	workers: "1",
	span: "1GiB",
	for: "4s",
	warmUp: "1s",
};

/** A parameter of the form. */
type Tried = { field: string; now: string; of: string; values: string; on: boolean };

/** A value that stands still for a moment before it is passed on. */
function useSettled<T>(value: T): T {
	const [settled, settle] = useState(value);
	useEffect(() => {
		const timer = setTimeout(() => settle(value), 400);
		return () => clearTimeout(timer);
	}, [value]);
	return settled;
}

/** What is offered for a load on a volume, with what the user made of it. */
function joined(offered: Schemas["Adjustment"][], own: Tried[]): Tried[] {
	const usual = offered.map((a) => ({
		field: a.field,
		now: a.now,
		of: a.of,
		values: (a.values ?? []).join(", "),
		on: true,
	}));
	return [
		...usual.map((u) => own.find((o) => o.field === u.field) ?? u),
		...own.filter((o) => o.of === "" && !usual.some((u) => u.field === o.field)),
	];
}

/** Commas part values, unless they stand in brackets. */
function listed(text: string): string[] {
	return (text.match(/(?:\{[^}]*\}|\[[^\]]*\]|[^,{[])+/g) ?? []).map((v) => v.trim()).filter((v) => v !== "");
}

/** Chooses a volume, a load and parameters, and starts the experiment. */
export function Tune() {
	const navigate = useNavigate();
	const queries = useQueryClient();
	const [search] = useSearchParams();
	const volumes = useQuery({ queryKey: ["volumes"], queryFn: api.volumes });
	const fields = useQuery({ queryKey: ["fields"], queryFn: api.fields, staleTime: Number.POSITIVE_INFINITY });
	const [volume, setVolume] = useState(Number(search.get("volume") ?? 0));
	const [values, setValues] = useState<Record<string, string>>(first);
	const [own, setOwn] = useState<Tried[]>([]);
	const [minutes, setMinutes] = useState("15");
	const list = volumes.data?.volumes ?? [];
	const on = list.find((v) => v.id === volume) ?? list[0];
	const asked = useSettled(JSON.stringify(Object.entries(values).filter(([, v]) => v !== "")));
	const load = useQuery({
		queryKey: ["load", asked],
		queryFn: () => api.readLoad(Object.fromEntries(JSON.parse(asked))),
		retry: false,
	});
	const offered = useQuery({
		queryKey: ["adjustments", on?.id, asked],
		queryFn: () => api.adjustments(on?.id ?? 0, load.data?.load ?? ({} as Schemas["ReadLoad"]["load"])),
		enabled: on !== undefined && load.data !== undefined,
		placeholderData: (before) => before,
		retry: false,
	});
	const rows = joined(offered.data?.adjustments ?? [], own);
	const chosen = rows.filter((r) => r.on && listed(r.values).length > 0);
	const budget = useSettled(Number(minutes) * 60);
	const plan: Plan | undefined = load.data && {
		stages: [
			{
				load: load.data.load,
				tune: {
					budgetSeconds: budget,
					parameters: chosen.map((r) => ({
						field: r.field,
						values: listed(r.values),
						...(r.now ? { now: r.now } : {}),
					})),
				},
			},
		],
	};
	const takes = useQuery({
		queryKey: ["estimate", JSON.stringify(plan)],
		queryFn: () => api.estimate(plan as Plan),
		enabled: plan !== undefined && chosen.length > 0 && budget > 0,
		placeholderData: (before) => before,
		retry: false,
	});
	const start = useMutation({
		mutationFn: () => api.startRun({ volumeId: on?.id ?? 0, plan: plan as Plan }),
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
	if (!on) {
		return (
			<Empty>
				<p className="text-lg">There is no volume to tune yet.</p>
				<Link to="/volumes" className="btn btn-primary">
					Register a volume
				</Link>
			</Empty>
		);
	}
	const change = (row: Tried, to: Partial<Tried>) =>
		setOwn([...own.filter((o) => o.field !== row.field), { ...row, ...to }]);
	const submit = (e: FormEvent) => {
		e.preventDefault();
		start.mutate();
	};
	const wrong = load.error instanceof CallError ? load.error : undefined;
	const all = fields.data.fields ?? [];
	return (
		<form onSubmit={submit} className="max-w-4xl">
			<h1 className="mb-1 text-xl">Tune</h1>
			<p className="mb-4 text-sm opacity-80">
				Which parameters matter for a load, and which settings are worth keeping. Each value is measured alone
				against the present settings, in shuffled rounds; then the promising ones together.
			</p>
			<VolumeChoice
				volumes={list}
				value={on.id}
				change={(id) => {
					setVolume(id);
					setOwn([]);
				}}
			/>
			<h2 className="mt-6 mb-2 text-lg">The load</h2>
			<div className="grid gap-4 sm:grid-cols-2 lg:grid-cols-4">
				{Object.keys(first)
					.flatMap((name) => all.filter((f) => f.name === name))
					.map((f) => (
						<FieldInput
							key={f.name}
							field={f}
							value={values[f.name] ?? ""}
							change={(v) => setValues({ ...values, [f.name]: v })}
							trouble={wrong?.about(f.name)}
						/>
					))}
			</div>
			{load.error && <Trouble error={load.error} />}
			<h2 className="mt-6 mb-2 text-lg">What to try</h2>
			{offered.error && <Trouble error={offered.error} />}
			<Parameters rows={rows} change={change} add={(row) => setOwn([...own, row])} />
			<label className="mt-4 flex w-40 flex-col gap-1">
				Time, minutes
				<input
					className="input w-full"
					name="minutes"
					type="number"
					min={0.1}
					max={10080}
					step="any"
					value={minutes}
					onChange={(e) => setMinutes(e.target.value)}
				/>
			</label>
			<p role="status" className="mt-2 min-h-6">
				{takes.data && !takes.error && chosen.length > 0 && `At most ${estimate(takes.data)}.`}
			</p>
			{takes.error && chosen.length > 0 && <Trouble error={takes.error} />}
			{start.error && <Trouble error={start.error} />}
			<button
				type="submit"
				className="btn btn-primary mt-2"
				disabled={start.isPending || !plan || chosen.length === 0}
			>
				Tune
			</button>
		</form>
	);
}

/** The parameters with their values, to choose and to change, and a line for another. */
function Parameters(props: {
	rows: Tried[];
	change: (row: Tried, to: Partial<Tried>) => void;
	add: (row: Tried) => void;
}) {
	const { rows, change, add } = props;
	const [field, setField] = useState("");
	const known = rows.some((r) => r.field === field.trim());
	const append = () => {
		add({ field: field.trim(), now: "", of: "", values: "", on: true });
		setField("");
	};
	return (
		<div className="overflow-x-auto">
			<table className="table table-sm">
				<thead>
					<tr>
						<th>Parameter</th>
						<th>In the baseline</th>
						<th>Tried</th>
						<th>What it is about</th>
					</tr>
				</thead>
				<tbody>
					{rows.map((r) => (
						<tr key={r.field}>
							<td>
								<label className="flex items-center gap-2">
									<input
										type="checkbox"
										className="checkbox checkbox-sm"
										checked={r.on}
										onChange={(e) => change(r, { on: e.target.checked })}
									/>
									{r.field}
								</label>
							</td>
							<td>{r.now || "as named"}</td>
							<td>
								<input
									className="input input-sm w-52"
									aria-label={`values of ${r.field}`}
									value={r.values}
									disabled={!r.on}
									placeholder="values, separated by commas"
									onChange={(e) => change(r, { values: e.target.value })}
								/>
							</td>
							<td className="opacity-80">{r.of}</td>
						</tr>
					))}
					<tr>
						<td colSpan={2}>
							<input
								className="input input-sm w-full"
								aria-label="another parameter"
								placeholder="another: a field, or a key of an array file"
								value={field}
								onChange={(e) => setField(e.target.value)}
							/>
						</td>
						<td colSpan={2}>
							<button
								type="button"
								className="btn btn-sm"
								disabled={field.trim() === "" || known}
								onClick={append}
							>
								Add
							</button>
						</td>
					</tr>
				</tbody>
			</table>
		</div>
	);
}
