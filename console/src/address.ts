import { useCallback } from "react";
import { useSearchParams } from "react-router";

// useAddress gives what the address bar holds of a view, and a way to change parts of it; "" and null take one away.
export function useAddress() {
  const [params, setParams] = useSearchParams();
  const change = useCallback(
    (next: Record<string, string | null>) =>
      setParams((old) => {
        const p = new URLSearchParams(old);
        for (const [key, v] of Object.entries(next)) {
          if (v) p.set(key, v);
          else p.delete(key);
        }
        return p;
      }),
    [setParams],
  );
  return { params, change };
}
