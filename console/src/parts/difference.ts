export type Line = { side: 'both' | 'old' | 'new'; text: string }

/** Of two middles that have more lines together nothing is compared: one replaces the other. */
const MOST = 4000

/** Which lines go and which come, by the longest common subsequence; empty where none does. */
export function differing(before: string, after: string, around = 2): Line[] {
  const a = before.split('\n')
  const b = after.split('\n')
  let head = 0
  while (head < a.length && head < b.length && a[head] === b[head]) head++
  let tail = 0
  while (tail < a.length - head && tail < b.length - head && a[a.length - 1 - tail] === b[b.length - 1 - tail]) tail++
  const both = (lines: string[]) => lines.map((text): Line => ({ side: 'both', text }))
  const all = [...both(a.slice(0, head)), ...middle(a.slice(head, a.length - tail), b.slice(head, b.length - tail)), ...both(a.slice(a.length - tail))]
  const near = (at: number) => all.slice(Math.max(0, at - around), at + around + 1).some((line) => line.side !== 'both')
  return all.filter((_, at) => near(at))
}

function middle(a: string[], b: string[]): Line[] {
  const old = (text: string): Line => ({ side: 'old', text })
  const fresh = (text: string): Line => ({ side: 'new', text })
  if (a.length + b.length > MOST) return [...a.map(old), ...b.map(fresh)]
  // How many lines the rests from (i, j) on have in common, row by row.
  const wide = b.length + 1
  const common = new Uint32Array((a.length + 1) * wide)
  const at = (i: number, j: number) => common[i * wide + j] ?? 0
  for (let i = a.length - 1; i >= 0; i--)
    for (let j = b.length - 1; j >= 0; j--) common[i * wide + j] = a[i] === b[j] ? at(i + 1, j + 1) + 1 : Math.max(at(i + 1, j), at(i, j + 1))
  const lines: Line[] = []
  let [i, j] = [0, 0]
  while (i < a.length || j < b.length) {
    const [x, y] = [a[i], b[j]]
    if (x !== undefined && x === y) {
      lines.push({ side: 'both', text: x })
      i++
      j++
    } else if (x !== undefined && (y === undefined || at(i + 1, j) >= at(i, j + 1))) {
      lines.push(old(x))
      i++
    } else if (y !== undefined) {
      lines.push(fresh(y))
      j++
    }
  }
  return lines
}
