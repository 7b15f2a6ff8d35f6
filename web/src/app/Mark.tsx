/** The product's mark: a lamp. */
export function Mark() {
  return (
    <span className="flex items-center gap-[7px] text-title font-semibold tracking-tight">
      <svg width="9" height="16" viewBox="0 0 9 16" aria-hidden="true">
        <path d="M0 2a2 2 0 0 1 2-2h5a2 2 0 0 1 2 2v9.500a4.500 4.500 0 0 1-9 0z" fill="var(--ink)" />
        <rect x="2" y="2" width="5" height="6" rx="2.500" fill="var(--lamp)" />
      </svg>
      <span className="max-md:sr-only">lumtar</span>
    </span>
  );
}
