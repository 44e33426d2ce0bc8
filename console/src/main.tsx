import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Link, Navigate, Route, Routes } from "react-router";
import { CallError } from "./api/client";
import { ArrayPage } from "./pages/array";
import { Buy, SearchPage } from "./pages/buy";
import { ComparisonPage, Comparisons } from "./pages/compare";
import { Decide, DecisionPage } from "./pages/decide";
import { EfficiencyPage } from "./pages/efficiency";
import { LookPage } from "./pages/look";
import { Measure } from "./pages/measure";
import { RunPage } from "./pages/run";
import { Runs } from "./pages/runs";
import { SignIn } from "./pages/signin";
import { Tune } from "./pages/tune";
import { FitPage, TwinPage, Twins } from "./pages/twins";
import { Volumes } from "./pages/volumes";
import { Empty, Shell } from "./parts/shell";
import { ThemeProvider } from "./parts/theme";
import "./style.css";

const queries = new QueryClient({
	defaultOptions: {
		queries: { retry: (count, error) => count < 2 && !(error instanceof CallError && error.status >= 400) },
	},
});

function NoPage() {
	return (
		<Empty>
			<p className="text-lg">There is no such page.</p>
			<Link to="/runs" className="btn">
				Show the runs
			</Link>
		</Empty>
	);
}

const root = document.getElementById("root");
if (root) {
	createRoot(root).render(
		<StrictMode>
			<ThemeProvider>
				<QueryClientProvider client={queries}>
					<BrowserRouter>
						<Routes>
							<Route path="/sign-in" element={<SignIn />} />
							<Route element={<Shell />}>
								<Route index element={<Navigate to="/runs" replace />} />
								<Route path="/runs" element={<Runs />} />
								<Route path="/runs/:id" element={<RunPage />} />
								<Route path="/arrays/:id" element={<ArrayPage />} />
								<Route path="/look/:id" element={<LookPage />} />
								<Route path="/compare" element={<Comparisons />} />
								<Route path="/compare/view" element={<ComparisonPage />} />
								<Route path="/compare/:id" element={<ComparisonPage />} />
								<Route path="/buy" element={<Buy />} />
								<Route path="/buy/:id" element={<SearchPage />} />
								<Route path="/decide" element={<Decide />} />
								<Route path="/decide/:id" element={<DecisionPage />} />
								<Route path="/efficiency" element={<EfficiencyPage />} />
								<Route path="/measure" element={<Measure />} />
								<Route path="/tune" element={<Tune />} />
								<Route path="/twins" element={<Twins />} />
								<Route path="/twins/fits/:id" element={<FitPage />} />
								<Route path="/twins/:id" element={<TwinPage />} />
								<Route path="/volumes" element={<Volumes />} />
								<Route path="*" element={<NoPage />} />
							</Route>
						</Routes>
					</BrowserRouter>
				</QueryClientProvider>
			</ThemeProvider>
		</StrictMode>,
	);
}
