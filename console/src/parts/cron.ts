// Cron expressions for what people mean.
export type Preset = 'night' | 'week' | 'month' | 'cron'

/** Five fields for a preset; day is a weekday from Sunday as 0, or a day of the month. */
export function cronOf(preset: Preset, time: string, day: string, cron: string): string {
  if (preset === 'cron') return cron.trim()
  const [hour, minute] = time.split(':').map(Number)
  const clock = `${minute ?? 0} ${hour ?? 0}`
  if (preset === 'week') return `${clock} * * ${day}`
  if (preset === 'month') return `${clock} ${day} * *`
  return `${clock} * * *`
}

/** What a form shows for an expression: the other direction. */
export function presetOf(cron: string): { preset: Preset; time: string; day: string } {
  const plain = { preset: 'cron' as Preset, time: '02:00', day: '1' }
  const m = /^(\d{1,2}) (\d{1,2}) (\*|\d{1,2}) \* (\*|[0-6])$/.exec(cron.trim())
  if (!m) return plain
  const [minute, hour, monthday, weekday] = [m[1]!, m[2]!, m[3]!, m[4]!]
  const time = `${hour.padStart(2, '0')}:${minute.padStart(2, '0')}`
  if (monthday !== '*' && weekday !== '*') return plain
  if (weekday !== '*') return { preset: 'week', time, day: weekday }
  if (monthday !== '*') return { preset: 'month', time, day: monthday }
  return { preset: 'night', time, day: '1' }
}

const weekdays = ['Sunday', 'Monday', 'Tuesday', 'Wednesday', 'Thursday', 'Friday', 'Saturday']

/** An expression in words, where it is one that a form can show; as it is otherwise. */
export function inWords(cron: string): string {
  const { preset, time, day } = presetOf(cron)
  if (preset === 'night') return `every day at ${time}`
  if (preset === 'week') return `every ${weekdays[Number(day)]} at ${time}`
  if (preset === 'month') return `on day ${day} of each month at ${time}`
  return cron
}
