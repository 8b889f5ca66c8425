// The text of an alert, as docs/alerts.md describes it, made of what is filled in.

export interface Form {
  name: string;
  kind: "more" | "fewer" | "value" | "silent" | "new_shape" | "share";
  cask: string;
  when: string;
  by: string;
  than: string;
  span: string;
  unit: "m" | "h" | "d";
  field: string;
  side: "over" | "under";
  value: string;
  of: string;
  share: string;
  least: string;
  tell: string[];
  nights: boolean;
  weekends: boolean;
  note: string;
}

export const units = { m: "minutes", h: "hours", d: "days" };

const isKind = (kind: string | null): kind is Form["kind"] => ["more", "fewer", "value", "silent", "new_shape", "share"].includes(kind ?? "");

// begun is what a form begins with.
export const begun = (kind: string | null, when: string, cask: string): Form => ({
  name: "", kind: isKind(kind) ? kind : "more", cask, when, by: "", than: "10", span: "10", unit: "m", field: "", side: "over", value: "", of: "severity at least error", share: "5", least: "20", tell: [], nights: false, weekends: false, note: "",
});

// quoted is a text as YAML takes it, whatever is in it.
const quoted = (text: string) => JSON.stringify(text);

function kindOf(f: Form): string {
  const span = `${f.span || 0}${f.unit}`;
  switch (f.kind) {
    case "more":
    case "fewer":
      return `${f.kind}: {than: ${f.than || '""'}, in: ${span}}`;
    case "value":
      return `value: {field: ${quoted(f.field)}, ${f.side}: ${f.value || '""'}}`;
    case "silent":
      return `silent: {for: ${span}}`;
    case "new_shape":
      return "new_shape: {}";
    case "share":
      return `share: {of: ${quoted(f.of)}, over: ${f.share || 0}%, in: ${span}, least: ${f.least || '""'}}`;
  }
}

export function asText(f: Form): string {
  const lines = ["alert: 1"];
  if (f.cask) lines.push(`cask: ${quoted(f.cask)}`);
  if (f.when) lines.push(`when: ${quoted(f.when)}`);
  if (f.by && f.kind !== "new_shape") lines.push(`by: ${f.by}`);
  lines.push(kindOf(f));
  if (f.tell.length) lines.push(`tell: [${f.tell.join(", ")}]`);
  const quiet = [f.nights && '{from: "22:00", to: "06:00"}', f.weekends && "{days: [sat, sun]}"].filter(Boolean);
  if (quiet.length) lines.push(`quiet: [${quiet.join(", ")}]`, `zone: ${Intl.DateTimeFormat().resolvedOptions().timeZone}`);
  if (f.note) lines.push(`note: ${quoted(f.note)}`);
  return lines.join("\n") + "\n";
}
