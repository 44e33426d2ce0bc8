import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { Link, useParams } from "react-router";
import { api, type SetupField } from "../api/client";
import { bytes, moment, seconds } from "../parts/format";
import { Hops } from "../parts/hops";
import { useLabels } from "../parts/labels";
import { Chain, Checks, Facts } from "../parts/setup";
import { Trouble } from "../parts/shell";

/** Look before you measure: what stands behind a volume, its ceilings, and what to mind. */
export function LookPage() {
	const id = Number(useParams().id);
	const volumes = useQuery({ queryKey: ["volumes"], queryFn: api.volumes });
	const volume = volumes.data?.volumes?.find((v) => v.id === id);
	const [longer, setLonger] = useState(false);
	const look = useQuery({
		queryKey: ["look", id, longer],
		queryFn: () => api.look(id, longer ? 20 : 0),
		placeholderData: keepPreviousData,
	});
	const versions = useQuery({ queryKey: ["setups", id], queryFn: () => api.setups(id) });
	const [use, setUse] = useState(0);
	const label = useLabels();
	if (look.error) {
		return (
			<>
				<Trouble error={look.error} />
				<Link to="/volumes" className="btn btn-sm">
					Show the volumes
				</Link>
			</>
		);
	}
	if (!look.data) {
		return (
			<p role="status">
				Looking at the volume: its layers, its memory, its links. This takes up to two seconds…
			</p>
		);
	}
	const l = look.data;
	const uses = l.uses ?? [];
	const count = (result: string) => (l.checks ?? []).filter((c) => c.result === result).length;
	const slow = count("could not look") > 0 && !longer;
	return (
		<>
			<div className="flex flex-wrap items-baseline gap-x-4 gap-y-1">
				<h1 className="text-xl">{volume?.name ?? l.locator}</h1>
				{l.facts && (
					<span className="opacity-80">
						{bytes(l.facts.sizeBytes)}
						{l.traits.makes && `, ${bytes(l.facts.freeBytes)} free`}
					</span>
				)}
				<span className="ml-auto flex gap-2">
					<button
						type="button"
						className="btn btn-sm"
						onClick={() => (slow ? setLonger(true) : look.refetch())}
						disabled={look.isFetching}
						title={slow ? "Not everything answered in time: wait up to 20 seconds for it" : undefined}
					>
						{look.isFetching ? "Looking…" : slow ? "Look longer" : "Look again"}
					</button>
					{l.traits.described && (
						<Link to={`/arrays/${id}`} className="btn btn-sm">
							Look inside
						</Link>
					)}
					<Link to={`/tune?volume=${id}`} className="btn btn-sm">
						Tune
					</Link>
					<Link to={`/measure?volume=${id}`} className="btn btn-primary btn-sm">
						Measure
					</Link>
				</span>
			</div>
			<p className="mb-4 break-all text-sm opacity-80">
				{l.locator} ({l.kind}), looked at {moment(l.at)} in {seconds(l.tookSeconds)}
			</p>
			<div className="grid gap-x-10 gap-y-6 lg:grid-cols-2">
				<section aria-label="Checks" className="min-w-0 overflow-x-auto">
					<h2 className="text-lg">
						Checks: {count("failed")} failed, {count("caution")} with caution, {count("passed")} passed
						{count("could not look") > 0 && `, ${count("could not look")} could not look`}
					</h2>
					<Checks checks={l.checks ?? []} />
				</section>
				<section aria-label="Layers" className="min-w-0">
					<h2 className="mb-2 text-lg">From the volume down to the media</h2>
					<Chain layers={l.chain ?? []} />
				</section>
			</div>
			{uses.length > 0 && (
				<section aria-label="Ceilings" className="mt-8">
					<div className="mb-3 flex flex-wrap items-end gap-4">
						<h2 className="text-lg">Limits of the hops</h2>
						<label className="flex items-center gap-2">
							of
							<select
								className="select select-sm w-64"
								value={use}
								onChange={(e) => setUse(Number(e.target.value))}
							>
								{uses.map((u, n) => (
									<option key={u.use} value={n}>
										{u.use}, {bytes(u.blockBytes)}
									</option>
								))}
							</select>
						</label>
					</div>
					<Hops use={uses[use]} />
					<p className="mt-2 text-sm opacity-80">
						The width of a bar is the limit of its hop, on a logarithmic scale; a dashed one is not known.
						Caches and tiers can answer without the hops behind them.
					</p>
				</section>
			)}
			<section aria-label="Setup" className="mt-8 grid gap-x-10 gap-y-6 lg:grid-cols-2">
				<div className="min-w-0 overflow-x-auto">
					<h2 className="text-lg">Setup</h2>
					<Facts setup={l.setup} label={label} />
				</div>
				<div className="min-w-0">
					<Tell id={id} shown={versions.data?.versions?.[0]?.version ?? 0} />
					<h2 className="mt-6 text-lg">Versions</h2>
					{(versions.data?.versions ?? []).length === 0 ? (
						<p className="opacity-80">There is none yet: a run or a told fact makes the first.</p>
					) : (
						<ol className="mt-1">
							{versions.data?.versions?.map((v) => (
								<li key={v.version} className="my-1 text-sm">
									<strong>Version {v.version}</strong>, {moment(v.created)}: {v.changed.words}
								</li>
							))}
						</ol>
					)}
				</div>
			</section>
		</>
	);
}

/**
 * A form that tells facts of a setup, or copies them from another volume. What is
 * replaced is the version that is shown, and no later one.
 */
function Tell({ id, shown }: { id: number; shown: number }) {
	const queries = useQueryClient();
	const fields = useQuery({ queryKey: ["setup fields"], queryFn: api.setupFields });
	const volumes = useQuery({ queryKey: ["volumes"], queryFn: api.volumes });
	const [key, setKey] = useState("");
	const [number, setNumber] = useState(1);
	const [value, setValue] = useState("");
	const [from, setFrom] = useState("");
	const refresh = () => {
		for (const name of ["look", "setups"]) {
			queries.invalidateQueries({ queryKey: [name, id] });
		}
	};
	const done = () => {
		refresh();
		setValue("");
	};
	const tell = useMutation({
		mutationFn: (facts: { key: string; value: string }[]) => api.tellSetup(id, { facts }),
		onSuccess: done,
	});
	const copy = useMutation({
		mutationFn: async (other: number) => {
			const look = await api.look(other);
			const facts = (look.setup.facts ?? []).map((f) => ({ key: f.key, value: f.value }));
			return api.tellSetup(id, { replace: true, version: shown, facts });
		},
		onSuccess: done,
		onError: refresh, // what was kept meanwhile is shown
	});
	const field = fields.data?.fields?.find((f) => f.key === key);
	const submit = (e: FormEvent) => {
		e.preventDefault();
		tell.mutate([{ key: key.replace("[]", `[${number - 1}]`), value }]);
	};
	return (
		<div className="rounded-box border border-base-300 p-4">
			<h2 className="mb-2 font-medium">Tell what this host cannot see</h2>
			<form onSubmit={submit} className="grid gap-3 sm:grid-cols-[2fr_1fr] sm:items-end">
				<label className="flex flex-col gap-1 text-sm">
					Fact
					<select
						className="select w-full"
						name="fact"
						value={key}
						onChange={(e) => setKey(e.target.value)}
						required
					>
						<option value="">choose one</option>
						{[...new Set(fields.data?.fields?.map((f) => f.part))].map((part) => (
							<optgroup key={part} label={part}>
								{fields.data?.fields
									?.filter((f) => f.part === part)
									.map((f) => (
										<option key={f.key} value={f.key}>
											{f.part}: {f.label}
										</option>
									))}
							</optgroup>
						))}
					</select>
				</label>
				{key.includes("[]") ? (
					<label className="flex flex-col gap-1 text-sm">
						Number
						<input
							className="input w-full"
							type="number"
							min={1}
							max={64}
							value={number}
							onChange={(e) => setNumber(Number(e.target.value))}
						/>
					</label>
				) : (
					<span />
				)}
				<ValueInput field={field} value={value} set={setValue} />
				<button type="submit" className="btn btn-primary" disabled={tell.isPending || !key}>
					{value ? "Tell" : "Take back"}
				</button>
			</form>
			{tell.error && <Trouble error={tell.error} />}
			<form
				className="mt-4 flex flex-wrap items-end gap-3"
				onSubmit={(e) => {
					e.preventDefault();
					if (window.confirm("Replace all told facts of this volume by those of the other?")) {
						copy.mutate(Number(from));
					}
				}}
			>
				<label className="flex flex-col gap-1 text-sm">
					Or start from the setup of
					<select className="select w-56" value={from} onChange={(e) => setFrom(e.target.value)} required>
						<option value="">another volume</option>
						{volumes.data?.volumes
							?.filter((v) => v.id !== id)
							.map((v) => (
								<option key={v.id} value={v.id}>
									{v.name}
								</option>
							))}
					</select>
				</label>
				<button type="submit" className="btn" disabled={copy.isPending || !from}>
					Copy…
				</button>
			</form>
			{copy.error && <Trouble error={copy.error} />}
		</div>
	);
}

function ValueInput(props: { field?: SetupField; value: string; set: (v: string) => void }) {
	const { field, value, set } = props;
	const choices = field?.kind === "truth" ? ["yes", "no"] : (field?.choices ?? []);
	const examples: Record<string, string> = {
		size: "400GB",
		throughput: "1250MB/s",
		rate: "200k",
		time: "100us",
		whole: "4",
		number: "4700",
	};
	return (
		<label className="flex flex-col gap-1 text-sm" htmlFor="told-value">
			Value{field?.hint && ` (${field.hint})`}
			{choices.length > 0 ? (
				<select
					className="select w-full"
					id="told-value"
					name="value"
					value={value}
					onChange={(e) => set(e.target.value)}
				>
					<option value="">not known</option>
					{choices.map((c) => (
						<option key={c}>{c}</option>
					))}
				</select>
			) : (
				<input
					id="told-value"
					className="input w-full"
					name="value"
					placeholder={field ? (examples[field.kind] ?? "") : ""}
					value={value}
					onChange={(e) => set(e.target.value)}
				/>
			)}
		</label>
	);
}
