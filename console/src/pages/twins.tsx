import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { Link, Navigate, useNavigate, useParams } from "react-router";
import { api, type Fitting, type Volume } from "../api/client";
import { VolumeChoice } from "../parts/field";
import { moment, share } from "../parts/format";
import { Empty, StatusWord, Trouble, Unreadable } from "../parts/shell";
import { TwinShown } from "../parts/twin";

/** The twins, the fits under way, and a form to fit another. */
export function Twins() {
	const queries = useQueryClient();
	const twins = useQuery({ queryKey: ["twins"], queryFn: api.twins });
	const fits = useQuery({ queryKey: ["fits"], queryFn: api.fits, refetchInterval: 3000 });
	const volumes = useQuery({ queryKey: ["volumes"], queryFn: api.volumes });
	const remove = useMutation({
		mutationFn: api.removeTwin,
		onSuccess: () => queries.invalidateQueries({ queryKey: ["twins"] }),
	});
	const error = twins.error ?? fits.error ?? volumes.error;
	if (error) {
		return <Trouble error={error} />;
	}
	if (!twins.data || !volumes.data) {
		return <p role="status">Loading…</p>;
	}
	const list = twins.data.twins ?? [];
	const registered = volumes.data.volumes ?? [];
	return (
		<>
			<h1 className="mb-2 text-xl">Twins</h1>
			<p className="mb-4 max-w-3xl">
				A twin is a simulated array that is fitted to measurements of a real one. It predicts the effect of
				another member, cache or link, and is compared with later measurements.
			</p>
			<Unreadable of={twins.data.unreadable} />
			{remove.error && <Trouble error={remove.error} />}
			<UnderWay list={fits.data?.fits ?? []} />
			{list.length > 0 && (
				<div className="mb-6 overflow-x-auto">
					<table className="table">
						<thead>
							<tr>
								<th>Twin</th>
								<th>Of</th>
								<th className="figure">Off</th>
								<th className="figure">On left-out loads</th>
								<th>Fitted</th>
								<th />
							</tr>
						</thead>
						<tbody>
							{list.map((t) => (
								<tr key={t.id}>
									<td>
										<Link className="link" to={`/twins/${t.id}`}>
											{t.name}
										</Link>
									</td>
									<td>{t.volume}</td>
									<td className="figure">{share(t.off)}</td>
									<td className="figure">{t.unseen === undefined ? "not tried" : share(t.unseen)}</td>
									<td className="whitespace-nowrap">{moment(t.created)}</td>
									<td className="text-right">
										<button
											type="button"
											className="btn btn-ghost btn-sm"
											aria-label={`Remove ${t.name}`}
											onClick={() =>
												window.confirm(
													`Remove the twin “${t.name}”, and what it predicted? Measurements stay.`,
												) && remove.mutate(t.id)
											}
										>
											Remove…
										</button>
									</td>
								</tr>
							))}
						</tbody>
					</table>
				</div>
			)}
			{registered.length === 0 ? (
				<Empty>
					<p>A twin is fitted to measurements of a volume, and no volume is registered yet.</p>
					<Link to="/measure" className="btn btn-primary">
						Measure one
					</Link>
				</Empty>
			) : (
				<FitForm volumes={registered} />
			)}
		</>
	);
}

function UnderWay({ list }: { list: Fitting[] }) {
	const shown = list.filter((f) => f.status !== "finished");
	if (shown.length === 0) {
		return null;
	}
	return (
		<ul className="mb-4 flex flex-col gap-1" aria-label="Fits">
			{shown.map((f) => (
				<li key={f.id}>
					<StatusWord status={f.status} />{" "}
					<Link to={`/twins/fits/${f.id}`} className="link">
						{f.name}
					</Link>{" "}
					<span className="text-sm opacity-80">{moment(f.started)}</span>
				</li>
			))}
		</ul>
	);
}

/** A volume, what is guessed of it, and the name of its twin. */
function FitForm({ volumes }: { volumes: Volume[] }) {
	const navigate = useNavigate();
	const queries = useQueryClient();
	const [volume, setVolume] = useState(volumes[0].id);
	const guess = useQuery({ queryKey: ["guess", volume], queryFn: () => api.guessTwin(volume), retry: false });
	const [written, setWritten] = useState<string>();
	const [name, setName] = useState("");
	const [free, setFree] = useState("");
	const text = written ?? guess.data?.text ?? "";
	const fit = useMutation({
		mutationFn: () =>
			api.fitTwin({
				name,
				volumeId: volume,
				guess: text,
				free: free.split(/[\s,]+/).filter((key) => key !== ""),
			}),
		onSuccess: (begun) => {
			queries.invalidateQueries({ queryKey: ["fits"] });
			navigate(`/twins/fits/${begun.id}`);
		},
	});
	const submit = (e: FormEvent) => {
		e.preventDefault();
		fit.mutate();
	};
	return (
		<form
			onSubmit={submit}
			className="mb-6 flex max-w-3xl flex-col gap-3 rounded-box border border-base-300 p-4"
		>
			<h2 className="text-lg">Fit a twin</h2>
			<VolumeChoice
				volumes={volumes}
				value={volume}
				change={(id) => {
					setVolume(id);
					setWritten(undefined);
				}}
			/>
			<label className="flex flex-col gap-1">
				Its parts, as far as known: an array file to start from
				<textarea
					className="textarea w-full font-mono text-sm"
					name="guess"
					rows={8}
					spellCheck={false}
					value={text}
					onChange={(e) => setWritten(e.target.value)}
					required
				/>
			</label>
			{guess.error && written === undefined && (
				<p className="text-sm">
					{guess.error.message}. The volume’s{" "}
					<Link to={`/look/${volume}`} className="link">
						Look page
					</Link>
					.
				</p>
			)}
			<div className="grid gap-3 sm:grid-cols-2">
				<label className="flex flex-col gap-1">
					Name of the twin
					<input
						className="input w-full"
						name="name"
						value={name}
						maxLength={80}
						onChange={(e) => setName(e.target.value)}
						required
					/>
				</label>
				<label className="flex flex-col gap-1">
					Keys to fit
					<input
						className="input w-full"
						name="free"
						value={free}
						placeholder="all its rates and times"
						onChange={(e) => setFree(e.target.value)}
					/>
				</label>
			</div>
			{fit.error && <Trouble error={fit.error} />}
			<button type="submit" className="btn btn-primary self-start" disabled={fit.isPending}>
				Fit it
			</button>
		</form>
	);
}

/** One fit: how far it is. A finished one leads to its twin. */
export function FitPage() {
	const id = Number(useParams().id ?? 0);
	const queries = useQueryClient();
	const fit = useQuery({
		queryKey: ["fit", id],
		queryFn: () => api.fit(id),
		refetchInterval: (q) => (q.state.data?.status === "running" ? 700 : false),
	});
	const stop = useMutation({
		mutationFn: () => api.stopFit(id),
		onSuccess: () => queries.invalidateQueries({ queryKey: ["fit", id] }),
	});
	const f = fit.data;
	if (fit.error) {
		return (
			<>
				<Trouble error={fit.error} />
				<Link to="/twins" className="btn btn-sm">
					Show all twins
				</Link>
			</>
		);
	}
	if (!f) {
		return <p role="status">Loading…</p>;
	}
	if (f.twinId) {
		return <Navigate to={`/twins/${f.twinId}`} replace />;
	}
	return (
		<>
			<div className="flex flex-wrap items-baseline gap-x-4">
				<h1 className="text-xl">{f.name}</h1>
				<StatusWord status={f.status} />
				<span className="ml-auto flex gap-2">
					{f.status === "running" && (
						<button
							type="button"
							className="btn btn-sm"
							onClick={() => stop.mutate()}
							disabled={stop.isPending}
						>
							Stop
						</button>
					)}
					<Link to="/twins" className="btn btn-sm">
						All twins
					</Link>
				</span>
			</div>
			{stop.error && <Trouble error={stop.error} />}
			{f.status === "failed" && <Trouble error={f.reason} />}
			{f.status === "stopped" && <p className="my-3">It was stopped; nothing is stored.</p>}
			{f.status === "running" && (
				<div className="my-4 max-w-3xl" role="status">
					<progress className="progress progress-primary w-full" />
					<p>
						{f.waiting
							? "It waits for a run to end, so that it does not disturb the measurement."
							: `${f.progress.step}…`}
					</p>
					<p className="mt-1 text-sm opacity-80">
						{f.progress.tried} simulations
						{f.progress.off ? `; off by ${share(f.progress.off)} so far` : ""}
					</p>
				</div>
			)}
		</>
	);
}

/** One twin. */
export function TwinPage() {
	const id = Number(useParams().id ?? 0);
	const twin = useQuery({ queryKey: ["twin", id], queryFn: () => api.twin(id) });
	if (twin.error) {
		return (
			<>
				<Trouble error={twin.error} />
				<Link to="/twins" className="btn btn-sm">
					Show all twins
				</Link>
			</>
		);
	}
	return twin.data ? <TwinShown twin={twin.data} /> : <p role="status">Loading…</p>;
}
