/** The mark: two arcs of a nest, one seed in it, slightly tilted. */
export function Mark({ large }: { large?: boolean }) {
  const side = large ? 40 : 22
  return (
    <svg viewBox="0 0 24 24" width={side} height={side} fill="none" aria-hidden>
      <path d="M3 12a9 9 0 0 0 18 0M6.6 12.6a5.4 5.4 0 0 0 10.8 0" stroke="var(--leaf)" strokeWidth="2.2" strokeLinecap="round" />
      <ellipse cx="12.4" cy="8.4" rx="2.6" ry="4" transform="rotate(16 12.4 8.4)" fill="var(--clay)" />
    </svg>
  )
}
