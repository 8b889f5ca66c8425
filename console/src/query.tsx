import { useCombobox } from "downshift";
import { useRef, useState } from "react";

const words = [
  "severity at least ", "severity at most ", "severity is ", "facility is ", "facility in (", "host is ", "agent is ", "app is ", "procid is ", "msgid is ", "unit is ", "shape is ", "intake is ",
  "text contains ", "text has word ", "text matches /", "field ", "peer within ", "and ", "or ", "not ", "starts with ", "ends with ", "contains ", "has word ", "matches /", "exists", "missing", "ignoring case",
  "emergency", "alert", "critical", "error", "warning", "notice", "info", "debug",
];

// narrowed is a condition that asks for something more.
export const narrowed = (condition: string, to: string) => (!condition ? to : / or /i.test(condition) ? `(${condition}) and ${to}` : `${condition} and ${to}`);

const begunIn = (text: string) => text.match(/[a-z]+$/i)?.[0].toLowerCase() ?? "";

// QueryLine takes a condition. It offers the words of the language that go on with what is written: the arrows choose
// one, Enter or Tab takes it; Tab takes the first where none is chosen. It is a form of its own; where onText is told of
// each change, it is a part of another one.
export function QueryLine({ value, onRun, onText, inputRef }: { value: string; onRun: (condition: string) => void; onText?: (text: string) => void; inputRef: React.RefObject<HTMLInputElement | null> }) {
  const [text, showText] = useState(value);
  const setText = (to: string) => {
    showText(to);
    onText?.(to);
  };
  const shown = useRef(value);
  if (shown.current !== value) {
    shown.current = value;
    showText(value);
  }
  const begun = begunIn(text);
  const offers = begun ? words.filter((w) => w.startsWith(begun) && w.trim() !== begun).slice(0, 6) : [];
  const take = (word: string) => setText(text.slice(0, text.length - begun.length) + word);
  const box = useCombobox({
    items: offers,
    inputValue: text,
    selectedItem: null,
    itemToString: (word) => word ?? "",
    onStateChange: ({ type, inputValue, selectedItem }) => {
      if (type === useCombobox.stateChangeTypes.InputChange) setText(inputValue ?? "");
      else if (selectedItem) take(selectedItem);
    },
  });
  const open = box.isOpen && offers.length > 0;
  const line = (
    <>
      <input
        {...box.getInputProps({
          ref: inputRef,
          onChange: (e) => setText(e.currentTarget.value), // at once, so that the cursor stays where it is
          onKeyDown: (e) => {
            if (e.key === "Enter") (e.nativeEvent as { preventDownshiftDefault?: boolean }).preventDownshiftDefault = true; // it runs what is written
            const chosen = e.key === "Tab" ? Math.max(0, box.highlightedIndex) : e.key === "Enter" ? box.highlightedIndex : -1;
            if (!open || chosen < 0) return;
            e.preventDefault();
            take(offers[chosen]);
            box.closeMenu();
          },
        })}
        aria-label="condition"
        aria-labelledby={undefined}
        spellCheck={false}
        className="w-full rounded border border-line bg-paper px-3 py-1.5 font-mono text-sm"
        placeholder='severity at least warning and "stall"'
      />
      <ul {...box.getMenuProps({ "aria-label": "words that go on", "aria-labelledby": undefined })} role={open ? "listbox" : undefined} className={open ? "absolute top-full left-0 z-10 mt-1 min-w-56 rounded border border-line bg-sheet py-1 shadow-lg" : "hidden"}>
        {open && offers.map((w, i) => (
          <li key={w} {...box.getItemProps({ item: w, index: i })} className={`flex justify-between gap-6 px-3 py-0.5 font-mono text-sm ${i === box.highlightedIndex ? "bg-wash" : ""}`}>
            {w}{i === Math.max(0, box.highlightedIndex) && <span className="text-soft">Tab</span>}
          </li>
        ))}
      </ul>
    </>
  );
  const look = "relative min-w-0 flex-1 basis-72";
  if (onText) return <div className={look}>{line}</div>;
  return (
    <form
      role="search"
      className={look}
      onSubmit={(e) => {
        e.preventDefault();
        box.closeMenu();
        onRun(text.trim());
      }}
    >
      {line}
    </form>
  );
}
