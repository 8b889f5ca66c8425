import { useRef, useState } from "react";

const words = [
  "severity at least ", "severity at most ", "severity is ", "facility is ", "facility in (", "host is ", "app is ", "procid is ", "msgid is ", "intake is ",
  "text contains ", "text has word ", "text matches /", "field ", "peer within ", "and ", "or ", "not ", "starts with ", "ends with ", "contains ", "has word ", "matches /", "exists", "missing", "ignoring case",
  "emergency", "alert", "critical", "error", "warning", "notice", "info", "debug",
];

// QueryLine takes a condition. It offers the words of the language that go on with what is written; Tab takes the first.
export function QueryLine({ value, onRun, inputRef }: { value: string; onRun: (condition: string) => void; inputRef: React.RefObject<HTMLInputElement | null> }) {
  const [text, setText] = useState(value);
  const [open, setOpen] = useState(false);
  const shown = useRef(value);
  if (shown.current !== value) {
    shown.current = value;
    setText(value);
  }
  const begun = text.match(/[a-z]+$/i)?.[0].toLowerCase() ?? "";
  const offers = open && begun ? words.filter((w) => w.startsWith(begun) && w.trim() !== begun).slice(0, 6) : [];
  const take = (word: string) => {
    setText(text.slice(0, text.length - begun.length) + word);
    inputRef.current?.focus();
  };
  return (
    <form
      role="search"
      className="relative min-w-0 flex-1 basis-72"
      onSubmit={(e) => {
        e.preventDefault();
        setOpen(false);
        onRun(text.trim());
      }}
    >
      <input
        ref={inputRef}
        aria-label="condition"
        spellCheck={false}
        autoComplete="off"
        className="w-full rounded border border-line bg-paper px-3 py-1.5 font-mono text-sm"
        placeholder='severity at least warning and "stall"'
        value={text}
        onChange={(e) => {
          setText(e.target.value);
          setOpen(true);
        }}
        onKeyDown={(e) => {
          if (e.key === "Tab" && offers.length > 0) {
            e.preventDefault();
            take(offers[0]);
          }
          if (e.key === "Escape") setOpen(false);
        }}
        onBlur={() => setOpen(false)}
      />
      {offers.length > 0 && (
        <ul className="absolute top-full left-0 z-10 mt-1 min-w-56 rounded border border-line bg-sheet py-1 shadow-lg">
          {offers.map((w, i) => (
            <li key={w}>
              <button type="button" tabIndex={-1} className="flex w-full justify-between gap-6 px-3 py-0.5 text-left font-mono text-sm hover:bg-wash" onMouseDown={(e) => e.preventDefault()} onClick={() => take(w)}>
                {w}{i === 0 && <span className="text-soft">Tab</span>}
              </button>
            </li>
          ))}
        </ul>
      )}
    </form>
  );
}
