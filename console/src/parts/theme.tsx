import { createContext, type ReactNode, useContext, useEffect, useState } from "react";

type Choice = "system" | "day" | "night";

const ThemeContext = createContext<{ choice: Choice; dark: boolean; choose: (c: Choice) => void }>({
	choice: "system",
	dark: false,
	choose: () => {},
});

export const useTheme = () => useContext(ThemeContext);

/** Follows the system unless the user chose a theme. */
export function ThemeProvider({ children }: { children: ReactNode }) {
	const query = window.matchMedia("(prefers-color-scheme: dark)");
	const [systemDark, setSystemDark] = useState(query.matches);
	const [choice, setChoice] = useState<Choice>((localStorage.getItem("theme") as Choice) ?? "system");
	useEffect(() => {
		const listen = (e: MediaQueryListEvent) => setSystemDark(e.matches);
		query.addEventListener("change", listen);
		return () => query.removeEventListener("change", listen);
	}, [query]);
	const dark = choice === "night" || (choice === "system" && systemDark);
	document.documentElement.dataset.theme = dark ? "estuary-night" : "estuary-day";
	const choose = (c: Choice) => {
		localStorage.setItem("theme", c);
		setChoice(c);
	};
	return <ThemeContext.Provider value={{ choice, dark, choose }}>{children}</ThemeContext.Provider>;
}

export function ThemeSwitch() {
	const { choice, choose } = useTheme();
	return (
		<label className="flex items-center gap-2 text-sm">
			<span className="sr-only sm:not-sr-only">Theme</span>
			<select
				className="select select-sm w-28"
				value={choice}
				onChange={(e) => choose(e.target.value as Choice)}
			>
				<option value="system">system</option>
				<option value="day">day</option>
				<option value="night">night</option>
			</select>
		</label>
	);
}
