import { useQuery } from "@tanstack/react-query";
import { api } from "../api/client";

/** Turns the key of a fact into the name of its part and its own. */
export function useLabels(): (key: string) => [string, string] {
	const fields = useQuery({
		queryKey: ["setup fields"],
		queryFn: api.setupFields,
		staleTime: Number.POSITIVE_INFINITY,
	});
	return (key) => {
		const number = /\[(\d+)\]/.exec(key)?.[1];
		const field = fields.data?.fields?.find((f) => f.key === key.replace(/\[\d+\]/, "[]"));
		const [part, name] = field ? [field.part, field.label] : [key.split(".")[0], key.split(".")[1] ?? key];
		return [number === undefined ? part : `${part} ${Number(number) + 1}`, name];
	};
}
