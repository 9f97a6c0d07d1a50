/** Logo is Rillmark's mark: two rills that join, and notches on the line. */
export function Logo() {
  return (
    <svg className="logo" viewBox="0 0 24 24" width="24" height="24" aria-hidden="true">
      <path d="M2 7c4 0 4 5 9 5h11" />
      <path d="M2 17c4 0 4-5 9-5" />
      <path d="M15 8.5v7M19 8.5v7" />
    </svg>
  );
}
