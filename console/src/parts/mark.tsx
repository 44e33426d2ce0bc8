/** The standing heron. */
export function Mark({ className }: { className?: string }) {
	return (
		<svg viewBox="0 0 64 64" className={className} aria-hidden="true">
			<path
				fill="currentColor"
				d="M61 15.5 46 11C43 6.6 36.6 6.8 34.6 11.2 32.6 16 36 20 38 24c2 4.400-1.600 7.400-7.600 8.400C21 34 12 40 5 51c9-4.400 16-5 23-5.200V60h-4v2.400h12V60h-4.800V45.400C38.600 43.600 44.600 38.600 45 31.400c.4-6.200-3.800-10.600-4.400-14.600 0-1.600 1.600-2.200 3.200-2.100z"
			/>
		</svg>
	);
}
