/** Figure is a value under its name, in a list of such. */
export function Figure({ name, value, strong, title }: { name: string; value: string; strong?: boolean; title?: string }) {
  return (
    <div className={strong ? "strong" : undefined}>
      <dt>{name}</dt>
      <dd title={title}>{value}</dd>
    </div>
  );
}
