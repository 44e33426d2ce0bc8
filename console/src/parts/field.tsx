import type { Field, Volume } from "../api/client";

/** Fields that take one of some words; "" stands for the default. */
const choices: Record<string, string[]> = {
	order: ["random", "sequential", "skewed", "strided", "descending"],
	flush: ["", "never", "each", "end"],
	visit: ["", "listed", "shuffled", "by-class"],
	log: ["group-commit", "each-put", "asynchronous", "off"],
};

/** A field of a load, with what it takes or what is wrong with it. */
export function FieldInput(props: {
	field: Field;
	value: string;
	change: (v: string) => void;
	trouble?: string;
}) {
	const { field, value, change, trouble } = props;
	const look = trouble ? "input-error" : "";
	return (
		<label className="flex flex-col gap-1" htmlFor={`field-${field.name}`}>
			{words(field.name)}
			{field.name in choices ? (
				<select
					className="select w-full"
					name={field.name}
					value={value}
					onChange={(e) => change(e.target.value)}
				>
					{choices[field.name].map((o) => (
						<option key={o}>{o}</option>
					))}
				</select>
			) : field.name === "files" ? (
				<textarea
					id={`field-${field.name}`}
					className={`textarea h-24 w-full font-mono text-sm ${trouble ? "textarea-error" : ""}`}
					name={field.name}
					spellCheck={false}
					value={value}
					onChange={(e) => change(e.target.value)}
					aria-invalid={trouble !== undefined}
				/>
			) : field.takesNoValue ? (
				<input
					id={`field-${field.name}`}
					type="checkbox"
					className="checkbox"
					name={field.name}
					checked={value === "true"}
					onChange={(e) => change(e.target.checked ? "true" : "")}
				/>
			) : (
				<input
					id={`field-${field.name}`}
					className={`input w-full ${look}`}
					name={field.name}
					value={value}
					onChange={(e) => change(e.target.value)}
					aria-invalid={trouble !== undefined}
				/>
			)}
			<span className={`text-xs ${trouble ? "text-error" : "opacity-70"}`}>{trouble ?? field.usage}</span>
		</label>
	);
}

/** "warmUp" as people read it. */
function words(name: string): string {
	const spaced = name.replaceAll(/([A-Z])/g, " $1").toLowerCase();
	return spaced[0].toUpperCase() + spaced.slice(1);
}

/** Signs of a choice that fit beside its arrow. */
const mostSigns = 44;

/** A text that may be long, with its middle left out. */
function shortened(text: string): string {
	const half = Math.floor(mostSigns / 2);
	return text.length > mostSigns ? `${text.slice(0, half)}…${text.slice(1 - half)}` : text;
}

/** Chooses one of the volumes. */
export function VolumeChoice(props: { volumes: Volume[]; value: number; change: (id: number) => void }) {
	return (
		<label className="flex flex-col gap-1">
			Volume
			<select
				className="select w-full"
				name="volume"
				value={props.value}
				onChange={(e) => props.change(Number(e.target.value))}
			>
				{props.volumes.map((v) => (
					<option key={v.id} value={v.id}>
						{shortened(`${v.name} (${v.locator})`)}
					</option>
				))}
			</select>
		</label>
	);
}
