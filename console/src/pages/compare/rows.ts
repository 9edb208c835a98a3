// Rows of a comparison, prepared for showing.
import type { Row, Span } from '../../api/call'

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
