import { Component, useState, type ComponentProps, type ReactNode } from "react";

// What pages are made of.

const join = (...classes: (string | undefined)[]) => classes.filter(Boolean).join(" ");

// Boundary keeps what cannot be shown from taking the rest of a page with it. What a
// host says of itself may be anything.
export class Boundary extends Component<{ what: string; children: ReactNode }, { why: string }> {
  state = { why: "" };
  static getDerivedStateFromError(error: unknown) {
    return { why: error instanceof Error ? error.message : String(error) };
  }
  render() {
    if (!this.state.why) return this.props.children;
    return <Alert>{this.props.what} cannot be shown: {this.state.why}</Alert>;
  }
}

// Missing tells that what is shown lacks what stands on shelves that are away.
export function Missing({ shelves, className }: { shelves?: string[]; className?: string }) {
  if (!shelves?.length) return null;
  return <Alert className={className}>Shelf {shelves.join(", ")} is away: what stands there is missing here, and can be read again once it is back. Its hosts hold what they cannot send.</Alert>;
}

// Card is a part of a page with a title; nested says that it stands under another title.
export function Card({ title, nested, className, children }: { title?: string; nested?: boolean; className?: string; children: ReactNode }) {
  const Title = nested ? "h3" : "h2";
  return (
    <section className={join(card, className)}>
      {title && <Title className="mb-2 text-lg font-semibold">{title}</Title>}
      <Boundary what={title ?? "This part"}>{children}</Boundary>
    </section>
  );
}

// card is how a card looks, for what is one as a whole and no section.
export const card = "rounded-lg border border-line bg-sheet p-4";

const looks = {
  main: "rounded bg-amber px-3 py-1 text-sm font-semibold text-paper disabled:opacity-60", // what a form is for
  plain: "rounded border border-line bg-paper px-2 py-1 text-sm hover:bg-wash disabled:opacity-60",
  link: "text-sm text-soft underline hover:text-ink", // beside something else
};

export function Button({ look = "main", className, ...rest }: { look?: keyof typeof looks } & ComponentProps<"button">) {
  return <button className={join(looks[look], className)} {...rest} />;
}

// Alert tells what went wrong.
export function Alert({ className, children }: { className?: string; children: ReactNode }) {
  return <p role="alert" className={join("rounded bg-wash px-3 py-2 [overflow-wrap:anywhere]", className)}>{children}</p>;
}

// control is how what is filled in or chosen looks.
export const control = "rounded border border-line bg-paper px-2 py-1 text-sm";

// Field is something to fill in, with its name before and its unit behind it; field is how a form calls it.
export function Field({ name, field, nameClass, unit, className, ...rest }: { name: string; field?: string; nameClass?: string; unit?: string } & ComponentProps<"input">) {
  return (
    <label className="flex items-baseline gap-2">
      <span className={join("text-soft", nameClass)}>{name}</span>
      <input name={field} className={join(control, className)} {...rest} />
      {unit && <span className="text-soft">{unit}</span>}
    </label>
  );
}

// onWide is for cells of columns that are not shown where there is little room.
export const onWide = "max-sm:hidden";

// Table is a table with the names of its columns, those in wide only where there is room; where it is too wide it scrolls sideways.
export function Table({ columns, wide, label, className, children }: { columns: string[]; wide?: string[]; label?: string; className?: string; children: ReactNode }) {
  return (
    // eslint-disable-next-line jsx-a11y/no-noninteractive-tabindex -- so that keys scroll it
    <div className="overflow-x-auto" tabIndex={0} role="group" aria-label={label ?? `table by ${columns[0] || columns[1]}`}>
      <table className={join("w-full text-sm", className)} aria-label={label}>
        <thead><tr className="text-left text-soft">{columns.map((c, i) => (c ? <th key={c} className={join("py-1 pr-4 font-normal", wide?.includes(c) ? onWide : undefined)}>{c}</th> : <td key={i} />))}</tr></thead>
        <tbody>{children}</tbody>
      </table>
    </div>
  );
}

// Sure asks once more before something is taken away.
export function Sure({ what, label, onSure }: { what: string; label: string; onSure: () => void }) {
  const [asked, setAsked] = useState(false);
  if (!asked) return <Button look="link" aria-label={`${what} ${label}`} onClick={() => setAsked(true)}>{what}</Button>;
  return (
    <span className="inline-flex gap-3">
      <Button look="link" className="font-semibold text-ink" aria-label={`${what} ${label} for good`} onClick={onSure}>{what}, for good</Button>
      <Button look="link" onClick={() => setAsked(false)}>keep</Button>
    </span>
  );
}
