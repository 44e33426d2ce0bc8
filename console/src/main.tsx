import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { type ReactNode, StrictMode } from "react";
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
import pages from "./pages.json";
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

/** What each page of pages.json shows. The service answers these paths with the console. */
const elements: Record<string, ReactNode> = {
	"/": <Navigate to="/runs" replace />,
	"/runs": <Runs />,
	"/runs/:id": <RunPage />,
	"/arrays/:id": <ArrayPage />,
	"/look/:id": <LookPage />,
	"/compare": <Comparisons />,
	"/compare/view": <ComparisonPage />,
	"/compare/:id": <ComparisonPage />,
	"/buy": <Buy />,
	"/buy/:id": <SearchPage />,
	"/decide": <Decide />,
	"/decide/:id": <DecisionPage />,
	"/efficiency": <EfficiencyPage />,
	"/measure": <Measure />,
	"/tune": <Tune />,
	"/twins": <Twins />,
	"/twins/fits/:id": <FitPage />,
	"/twins/:id": <TwinPage />,
	"/volumes": <Volumes />,
};

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
								{pages
									.filter((path) => path !== "/sign-in")
									.map((path) => (
										<Route key={path} path={path} element={elements[path] ?? <NoPage />} />
									))}
								<Route path="*" element={<NoPage />} />
							</Route>
						</Routes>
					</BrowserRouter>
				</QueryClientProvider>
			</ThemeProvider>
		</StrictMode>,
	);
}
