/** What can be subscribed to, in words. */
export const happenings = {
  outside: 'outside agreed hours',
  change: 'any change',
  'round-failures': 'rounds with failures',
  round: 'any round',
  freshness: 'stale devices',
}
export type Happening = keyof typeof happenings
