// Findings on the lines that they are about.
import type { Finding } from '../api/call'

export interface LineFinding {
  text: string
  title: string
  severity: string
  document: string
  rule: string
}

const rank = { low: 0, medium: 1, high: 2 }
const drifted = (f: Finding) => f.document.startsWith('baseline:')

/** What is wrong with each line of one revision; of several the most severe is said, and of
 *  the same severity the rule: it says why the drift is none to bless. */
export function onLines(findings: Finding[], ref: string): Map<number, LineFinding> {
  const lines = new Map<number, LineFinding>()
  const sorted = findings
    .filter((f) => f.ref === ref && f.state !== 'closed')
    .sort((a, b) => rank[a.severity] - rank[b.severity] || Number(drifted(b)) - Number(drifted(a)))
  for (const f of sorted)
    for (const p of f.proofs) {
      if (!p.line) continue
      const had = lines.get(p.line)
      lines.set(p.line, {
        text: drifted(f) ? 'drifted' : f.item,
        title: [`${f.title}: ${p.says}`, had?.title].filter(Boolean).join('\n'),
        severity: f.state === 'waived' ? 'low' : f.severity,
        document: f.document,
        rule: f.name,
      })
    }
  return lines
}
