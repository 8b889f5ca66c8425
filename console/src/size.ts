const units = ["B", "KiB", "MiB", "GiB", "TiB"];

// size writes bytes in binary units.
export function size(n: number): string {
  let i = 0;
  for (; n >= 1024 && i < units.length - 1; i++) n /= 1024;
  return `${i === 0 ? Math.round(n) : n.toFixed(1)} ${units[i]}`;
}
