// Bytes that are no text, shown as hexadecimal numbers.

/** How many bytes of a line are shown. */
const most = 64

/** By line (from 1): the lines of base64 bytes that are not UTF-8. */
export function hexLines(base64: string): Map<number, string> {
  const bytes = Uint8Array.from(atob(base64), (c) => c.charCodeAt(0))
  const decoder = new TextDecoder('utf-8', { fatal: true })
  const found = new Map<number, string>()
  for (let at = 0, line = 1; at < bytes.length; line++) {
    const newline = bytes.indexOf(10, at)
    const end = newline < 0 ? bytes.length : newline
    const part = bytes.subarray(at, end)
    try {
      decoder.decode(part)
    } catch {
      const shown = [...part.subarray(0, most)].map((b) => b.toString(16).padStart(2, '0')).join(' ')
      found.set(line, part.length > most ? `${shown} … ${part.length.toLocaleString('en')} bytes` : shown)
    }
    at = end + 1
  }
  return found
}
