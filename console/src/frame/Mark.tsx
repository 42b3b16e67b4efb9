/** Stone above, and the water that goes on below it. */
export function Mark() {
  return (
    <svg viewBox="0 0 32 32" width="28" height="28" aria-hidden>
      <rect width="32" height="32" rx="7" fill="#0a5a70" />
      <path d="M4 11h9l3 6 3-6h9M4 17h6l6 9 6-9h6" fill="none" stroke="#f5f2ec" strokeWidth="2.4" strokeLinejoin="round" />
    </svg>
  )
}
