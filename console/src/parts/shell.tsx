import { useQuery, useQueryClient } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { NavLink, Outlet, useNavigate } from "react-router";
import { api, CallError, type Schemas } from "../api/client";
import { Mark } from "./mark";
import { ThemeSwitch } from "./theme";

/** The frame around every page; sends to sign in when the service asks for it. */
export function Shell() {
	const navigate = useNavigate();
	const queries = useQueryClient();
	const about = useQuery({ queryKey: ["about"], queryFn: api.about, refetchInterval: 15_000 });
	if (about.error instanceof CallError && about.error.status === 401) {
		navigate("/sign-in");
		return null;
	}
	const signOut = async () => {
		await api.signOut();
		queries.clear();
		navigate("/sign-in");
	};
	const link = ({ isActive }: { isActive: boolean }) =>
		`px-1 py-2 border-b-2 ${isActive ? "border-primary font-medium" : "border-transparent hover:border-base-300"}`;
	return (
		<div className="min-h-screen bg-base-100 text-base-content">
			<header className="border-b border-base-300">
				<div className="mx-auto flex max-w-6xl flex-wrap items-center gap-x-6 gap-y-1 px-4 pt-2">
					<NavLink to="/" className="flex items-center gap-2 pb-1 text-lg">
						<Mark className="h-9 w-9 text-primary" />
						Patient Heron
					</NavLink>
					<nav className="flex flex-wrap gap-x-4" aria-label="Pages">
						<NavLink to="/volumes" className={link}>
							Look
						</NavLink>
						<NavLink to="/measure" className={link}>
							Measure
						</NavLink>
						<NavLink to="/tune" className={link}>
							Tune
						</NavLink>
						<NavLink to="/runs" className={link}>
							Runs
						</NavLink>
						<NavLink to="/compare" className={link}>
							Compare
						</NavLink>
						<NavLink to="/decide" className={link}>
							Decide
						</NavLink>
					</nav>
					<div className="ml-auto flex items-center gap-3 pb-1">
						<span className="hidden text-sm opacity-80 md:inline">
							{about.data && `on ${about.data.host}`}
						</span>
						<ThemeSwitch />
						<button type="button" className="btn btn-ghost btn-sm" onClick={signOut}>
							Sign out
						</button>
					</div>
				</div>
			</header>
			<main className="mx-auto max-w-6xl px-4 py-6">
				{about.error && <Trouble error={about.error} />}
				{about.data?.trouble && <Trouble error={about.data.trouble} />}
				<Outlet />
			</main>
		</div>
	);
}

/** An error in words, with the service's own next step. */
export function Trouble({ error }: { error: unknown }) {
	return (
		<div role="alert" className="my-3 rounded-box border border-error px-4 py-2 text-error">
			{error instanceof Error ? error.message : String(error)}
		</div>
	);
}

/** Records that the service keeps and cannot read, named beside those that it can. */
export function Unreadable({ of }: { of?: Schemas["Unreadable"][] | null }) {
	return (of ?? []).map((u) => (
		<Trouble
			key={`${u.kind} ${u.id}`}
			error={`${u.kind[0].toUpperCase()}${u.kind.slice(1)} ${u.id ?? ""} is kept and cannot be read: ${u.reason}`}
		/>
	));
}

/** What a page says when there is nothing to show yet. */
export function Empty({ children }: { children: ReactNode }) {
	return (
		<div className="flex flex-col items-center gap-4 py-20 text-center">
			<Mark className="h-20 w-20 text-base-300" />
			{children}
		</div>
	);
}

const looks: Record<string, [string, string]> = {
	queued: ["◌", ""],
	preparing: ["◔", ""],
	settling: ["◔", ""],
	running: ["●", "text-primary"],
	waiting: ["○", ""],
	finished: ["✓", "text-secondary"],
	stopped: ["■", ""],
	failed: ["✕", "text-error"],
	interrupted: ["✕", "text-error"],
};

/** A status as a shape and a word. */
export function StatusWord({ status }: { status: string }) {
	const [shape, colour] = looks[status] ?? ["", ""];
	return (
		<span className={`whitespace-nowrap ${colour}`}>
			<span aria-hidden="true">{shape}</span> {status}
		</span>
	);
}
