import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { Link } from "react-router";
import { api, type Volume } from "../api/client";
import { bytes } from "../parts/format";
import { Trouble, Unreadable } from "../parts/shell";

export function Volumes() {
	const queries = useQueryClient();
	const volumes = useQuery({ queryKey: ["volumes"], queryFn: api.volumes });
	const remove = useMutation({
		mutationFn: api.removeVolume,
		onSuccess: () => queries.invalidateQueries({ queryKey: ["volumes"] }),
	});
	if (volumes.error) {
		return <Trouble error={volumes.error} />;
	}
	const list = volumes.data?.volumes ?? [];
	return (
		<>
			<h1 className="mb-4 text-xl">Volumes</h1>
			{volumes.data && list.length === 0 && (
				<p className="mb-4">No volume is registered yet. Name one below.</p>
			)}
			{list.length > 0 && (
				<div className="mb-6 overflow-x-auto">
					<table className="table">
						<thead>
							<tr>
								<th>Name</th>
								<th>Kind</th>
								<th>Locator</th>
								<th>Stands on</th>
								<th>Writes</th>
								<th className="figure">Size</th>
								<th className="figure">Free</th>
								<th />
							</tr>
						</thead>
						<tbody>
							{list.map((v) => (
								<tr key={v.id}>
									<td>{v.name}</td>
									<td>{v.kind}</td>
									<td className="break-all">{v.locator}</td>
									<td>{v.trouble ? <span className="text-error">{v.trouble}</span> : standsOn(v)}</td>
									<td>{v.writes}</td>
									<td className="figure">{v.facts && bytes(v.facts.sizeBytes)}</td>
									<td className="figure">{v.facts?.freeBytes ? bytes(v.facts.freeBytes) : ""}</td>
									<td className="whitespace-nowrap text-right">
										<Link to={`/look/${v.id}`} className="btn btn-ghost btn-sm">
											Look
										</Link>
										<Link to={`/measure?volume=${v.id}`} className="btn btn-sm">
											Measure
										</Link>
										<button
											type="button"
											className="btn btn-ghost btn-sm"
											aria-label={`Remove ${v.name}`}
											onClick={() =>
												window.confirm(
													`Remove volume ${v.name}? Its runs stay, and nothing on it is touched.`,
												) && remove.mutate(v.id)
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
			{list
				.filter((v) => v.consent?.lapsed)
				.map((v) => (
					<p key={v.id} className="mb-4 text-sm">
						Consent to overwrite {v.name} lapsed: {v.consent?.lapsed}. Look at what is there now, and if that
						may be lost, give it anew with <code>heron volume consent</code>.
					</p>
				))}
			<Unreadable of={volumes.data?.unreadable} />
			{remove.error && <Trouble error={remove.error} />}
			<Leftovers />
			<AddVolume />
		</>
	);
}

function standsOn(v: Volume): string {
	return [v.facts?.fileSystem, v.facts?.devices?.length && `on ${v.facts.devices.join(", ")}`]
		.filter(Boolean)
		.join(" ");
}

/** Test files that a run left when the service was killed, where files need a name. */
function Leftovers() {
	const queries = useQueryClient();
	const files = useQuery({ queryKey: ["leftovers"], queryFn: api.leftovers });
	const remove = useMutation({
		mutationFn: api.removeLeftover,
		onSettled: () => queries.invalidateQueries({ queryKey: ["leftovers"] }),
	});
	const list = files.data?.files ?? [];
	if (list.length === 0) {
		return files.error ? <Trouble error={files.error} /> : null;
	}
	return (
		<section className="mb-6">
			<h2 className="mb-2 text-lg">Left behind</h2>
			<p className="mb-2 text-sm">
				The service ended during a run, and its test file stayed. It can be removed safely.
			</p>
			<ul>
				{list.map((f) => (
					<li key={f.id} className="my-1">
						<span className="break-all">{f.path}</span>, {f.trouble ?? bytes(f.sizeBytes)}{" "}
						<button
							type="button"
							className="btn btn-sm ml-2"
							aria-label={`Remove ${f.path}`}
							onClick={() => remove.mutate(f.id)}
						>
							Remove
						</button>
					</li>
				))}
			</ul>
			{remove.error && <Trouble error={remove.error} />}
		</section>
	);
}

function AddVolume() {
	const queries = useQueryClient();
	const [locator, setLocator] = useState("");
	const [name, setName] = useState("");
	const add = useMutation({
		mutationFn: api.addVolume,
		onSuccess: () => {
			setLocator("");
			setName("");
			queries.invalidateQueries({ queryKey: ["volumes"] });
		},
	});
	const submit = (e: FormEvent) => {
		e.preventDefault();
		add.mutate(name ? { locator, name } : { locator });
	};
	return (
		<form onSubmit={submit} className="max-w-2xl rounded-box border border-base-300 p-4">
			<h2 className="mb-3 font-medium">Register a volume</h2>
			<div className="grid gap-3 sm:grid-cols-[2fr_1fr_auto] sm:items-end">
				<label className="flex flex-col gap-1 text-sm">
					Folder, file or block device on the service's host, array:FILE, iscsi://PORTAL/TARGET/LUN or
					null:SIZE
					<input
						className="input w-full"
						name="locator"
						placeholder="/srv/pool"
						value={locator}
						onChange={(e) => setLocator(e.target.value)}
						required
					/>
				</label>
				<label className="flex flex-col gap-1 text-sm">
					Name (optional)
					<input
						className="input w-full"
						name="name"
						value={name}
						onChange={(e) => setName(e.target.value)}
					/>
				</label>
				<button type="submit" className="btn btn-primary" disabled={add.isPending}>
					Register
				</button>
			</div>
			{add.error && <Trouble error={add.error} />}
			<p className="mt-3 text-sm opacity-80">
				In a folder, a run creates a test file and removes it at the end. Files, devices and LUNs are
				registered for reading; to let runs overwrite one, see <code>heron volume consent --help</code>.
			</p>
		</form>
	);
}
