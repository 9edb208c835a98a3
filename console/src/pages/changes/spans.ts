/** Spans that are often asked for. */
export const spans: Record<string, string> = {
  '24h': '24 hours',
  '7d': '7 days',
  '30d': '30 days',
  'last-round': 'since the last round',
  'last-window': 'since the last window',
}
