/** The product's mark: a rope that yields round a tether's point. */
export function Mark({ size }: { size: number }) {
  return (
    <svg width={size} height={size} viewBox="0 0 32 32" role="img" aria-label="Yielding Tether">
      <path d="M3 22c6.500 0 6.500-12 13-12s6.500 12 13 12" fill="none" stroke="currentColor" strokeWidth="3" strokeLinecap="round" />
      <circle cx="16" cy="10" r="3.600" fill="#0d6b62" />
    </svg>
  );
}
