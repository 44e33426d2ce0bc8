import { useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useCallback, useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { api } from "../api/client";
import { Mark } from "../parts/mark";
import { Trouble } from "../parts/shell";

/** Takes the token from the sign-in link, or asks for it. */
export function SignIn() {
	const navigate = useNavigate();
	const queries = useQueryClient();
	const [token, setToken] = useState("");
	const [error, setError] = useState<unknown>();
	const signIn = useCallback(
		async (given: string) => {
			try {
				await api.signIn(given);
				queries.clear();
				navigate("/runs", { replace: true });
			} catch (e) {
				setError(e);
			}
		},
		[navigate, queries],
	);
	useEffect(() => {
		const takeFromLink = () => {
			const given = new URLSearchParams(window.location.hash.slice(1)).get("token");
			if (given) {
				window.history.replaceState(null, "", window.location.pathname);
				signIn(given);
			}
		};
		takeFromLink();
		// The link may be opened in a tab that already shows this page.
		window.addEventListener("hashchange", takeFromLink);
		return () => window.removeEventListener("hashchange", takeFromLink);
	}, [signIn]);
	const submit = (e: FormEvent) => {
		e.preventDefault();
		signIn(token.trim());
	};
	return (
		<main className="flex min-h-screen flex-col items-center justify-center gap-6 bg-base-100 px-4 text-base-content">
			<Mark className="h-28 w-28 text-primary" />
			<h1 className="text-2xl">Patient Heron</h1>
			<form onSubmit={submit} className="flex w-full max-w-md flex-col gap-3">
				<label className="flex flex-col gap-1">
					Token
					<input
						className="input w-full"
						type="password"
						autoComplete="current-password"
						value={token}
						onChange={(e) => setToken(e.target.value)}
						required
						// biome-ignore lint/a11y/noAutofocus: it is the only thing to do here
						autoFocus
					/>
				</label>
				<button type="submit" className="btn btn-primary">
					Sign in
				</button>
				{error !== undefined && <Trouble error={error} />}
				<p className="text-sm opacity-80">
					Started on a terminal, the service printed a sign-in link. Its token is in the file{" "}
					<code>token</code> of its data folder.
				</p>
			</form>
		</main>
	);
}
