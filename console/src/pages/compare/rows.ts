// Rows of a comparison, prepared for showing.
import type { Comparison, Row, Span, Stats } from '../../api/call'

type SectionStats = Comparison['sections'][number]

export interface Group {
  from: number
  to: number
}

const differs = (r: Row) => r.kind !== 'equal' && r.kind !== 'skipped' && !r.aside

/** Runs of neighbouring rows that differ: the stops of n and p. */
export function groupsOf(rows: Row[]): Group[] {
  const groups: Group[] = []
  rows.forEach((r, i) => {
    if (!differs(r)) return
    const last = groups.at(-1)
    if (last && last.to === i - 1) last.to = i
    else groups.push({ from: i, to: i })
  })
  return groups
}

/** The first row that differs under these headings. */
export function firstRowOf(rows: Row[], path: string[]): number {
  const key = path.join('\0')
  return Math.max(
    0,
    rows.findIndex((r) => differs(r) && (r.path ?? []).join('\0') === key),
  )
}

export interface Piece {
  text: string
  strong: boolean
}

/** A line cut at the spans that changed. */
export function pieces(line: string, spans: Span[] | undefined): Piece[] {
  if (!spans?.length) return [{ text: line, strong: false }]
  const out: Piece[] = []
  let at = 0
  for (const s of spans) {
    if (s.from > at) out.push({ text: line.slice(at, s.from), strong: false })
    out.push({ text: line.slice(s.from, s.to), strong: true })
    at = s.to
  }
  if (at < line.length) out.push({ text: line.slice(at), strong: false })
  return out
}

export interface Half {
  number: number | undefined
  mark: string
  tone: string
  pieces: Piece[]
}

const empty: Half = { number: undefined, mark: '', tone: '', pieces: [] }

const tones = {
  removed: 'bg-removed-tint text-removed',
  added: 'bg-added-tint text-added',
  moved: 'bg-moved-tint text-moved',
  aside: 'text-faint',
}

/** A section of the tree on the left: its own counts, and how deep it is. */
export interface Branch {
  path: string[]
  name: string
  depth: number
  stats?: Stats
}

/** Sections with the headings above them, each once, in the order of the text. */
export function treeOf(sections: SectionStats[]): Branch[] {
  const out: Branch[] = []
  const at = new Map<string, Branch>()
  for (const s of sections) {
    for (let n = s.path.length ? 1 : 0; n <= s.path.length; n++) {
      const path = s.path.slice(0, n)
      const key = path.join('\0')
      let branch = at.get(key)
      if (!branch) {
        branch = { path, name: path.at(-1) ?? '(top)', depth: Math.max(0, n - 1) }
        at.set(key, branch)
        // It goes behind the last one that is under the same heading.
        const parent = path.slice(0, -1).join('\0')
        let place = out.length
        if (n > 1) {
          place = out.findIndex((b) => b.path.join('\0') === parent) + 1
          while (place < out.length && out[place]!.depth >= n - 1) place++
        }
        out.splice(place, 0, branch)
      }
      if (n === s.path.length) branch.stats = s.stats
    }
  }
  return out
}

/** A line of the table of what differs. */
export interface Cell {
  row: number
  section: string
  parameter: string
  left: string
  right: string
}

/** Which parameter has which value on either side. */
export function cellsOf(rows: Row[]): Cell[] {
  const cells: Cell[] = []
  const parted = (line: string): [string, string] => {
    const text = line.trim()
    const i = text.lastIndexOf(' ')
    return i < 0 ? [text, '(there)'] : [text.slice(0, i).trim(), text.slice(i + 1)]
  }
  rows.forEach((r, row) => {
    if (!differs(r) || (r.kind === 'moved' && !r.right)) return
    const section = (r.path ?? []).join('  ›  ') || '(top)'
    const l = r.leftText ?? ''
    const t = r.rightText ?? ''
    const cell = { row, section, parameter: '', left: '', right: '' }
    if (r.secretChanged)
      Object.assign(cell, { parameter: l.trim(), left: '(hidden)', right: '(hidden, another one)' })
    else if (r.kind === 'moved')
      Object.assign(cell, { parameter: t.trim(), left: `line ${r.other}`, right: `line ${r.right}` })
    else if (r.kind === 'removed') [cell.parameter, cell.left] = parted(l)
    else if (r.kind === 'added') [cell.parameter, cell.right] = parted(t)
    else {
      const from = Math.min(
        l.length,
        t.length,
        r.leftWords?.[0]?.from ?? Infinity,
        r.rightWords?.[0]?.from ?? Infinity,
      )
      const cut = Math.max(l.lastIndexOf(' ', from - 1), l.lastIndexOf('>', from - 1)) + 1
      Object.assign(cell, {
        parameter: l.slice(0, cut).trim(),
        left: l.slice(cut).trim(),
        right: t.slice(cut).trim(),
      })
    }
    // The marks of an element are no part of its name and value.
    const name = /^<([^<>/]+)>$/.exec(cell.parameter)?.[1]
    if (name) {
      cell.parameter = name
      cell.left = cell.left.replace(/<\/[^<>]+>$/, '')
      cell.right = cell.right.replace(/<\/[^<>]+>$/, '')
    }
    cells.push(cell)
  })
  return cells
}

/** The two halves of a row, left and right. */
export function halves(r: Row): [Half, Half] {
  const tone = (t: keyof typeof tones) => (r.aside ? tones.aside : tones[t])
  const left = (mark: string, t: string): Half => ({
    number: r.left,
    mark,
    tone: t,
    pieces: pieces(r.leftText ?? '', r.leftWords),
  })
  const right = (mark: string, t: string): Half => ({
    number: r.right,
    mark,
    tone: t,
    pieces: pieces(r.rightText ?? r.leftText ?? '', r.rightWords),
  })
  switch (r.kind) {
    case 'equal':
      return [left('', ''), right('', '')]
    case 'removed':
      return [left('−', tone('removed')), empty]
    case 'added':
      return [empty, right('+', tone('added'))]
    case 'moved':
      if (r.left && r.right) return [left('↕', tone('moved')), right('↕', tone('moved'))]
      return r.right ? [empty, right('↕', tone('moved'))] : [left('↕', tone('moved')), empty]
    case 'changed':
      if (r.secretChanged) return [left('~', tone('removed')), right('~', tone('added'))]
      return [left(r.aside ? '' : '−', tone('removed')), right(r.aside ? '' : '+', tone('added'))]
  }
  return [empty, empty]
}

/** What is said behind a row. */
export function note(r: Row): string {
  if (r.aside === 'volatile') return 'changes by itself'
  if (r.aside === 'undecidable') return 'not decidable: written anew at each show'
  if (r.aside === 'order') return 'in another place; order does not count here'
  if (r.aside === 'layout') return 'blanks alone'
  if (r.aside === 'expected') return 'expected to differ'
  if (r.secretChanged) return 'the secret changed'
  if (r.kind === 'moved') return r.right ? `was line ${r.other}` : `now line ${r.other}`
  return ''
}

/** The lines of the unified view: a changed row becomes two. */
export function unifiedHalves(r: Row): Half[] {
  const [l, right] = halves(r)
  if (r.kind === 'equal') return [l]
  return [l, right].filter((h) => h.number !== undefined)
}
