// Severities are told by a word and a shape as well as by a colour.

export const severities = ["emergency", "alert", "critical", "error", "warning", "notice", "info", "debug"];
const shapes = ["◆", "▲", "■", "●", "△", "□", "○", "·"];

export const colorOf = (index: number) => `var(--sev${index})`;

export function Severity({ name }: { name: string }) {
  const i = severities.indexOf(name);
  return (
    <span className="inline-flex items-baseline gap-1.5 whitespace-nowrap font-semibold" style={{ color: colorOf(i) }}>
      <span aria-hidden className="inline-block w-[1em] text-center">{shapes[i]}</span>
      {name}
    </span>
  );
}
