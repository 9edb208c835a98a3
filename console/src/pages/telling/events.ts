/** What can be subscribed to, in words. */
export const happenings = {
  outside: 'outside agreed hours',
  change: 'any change',
  'round-failures': 'rounds with failures',
  round: 'any round',
  freshness: 'stale devices',
  drift: 'drift from a baseline',
  finding: 'findings of audits',
  waiver: 'waivers that run out',
}
export type Happening = keyof typeof happenings
