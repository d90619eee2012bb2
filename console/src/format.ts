/** Figures in words, for all pages. */

const UNITS = ['B', 'KiB', 'MiB', 'GiB', 'TiB']

/** Bytes with three digits: `1.90 MiB`. */
export function bytes(count: number): string {
  let value = count
  let unit = 0
  while (value >= 999.5 && unit + 1 < UNITS.length) {
    value /= 1024
    unit += 1
  }
  if (unit === 0) return `${count} B`
  const digits = value >= 99.95 ? 0 : value >= 9.995 ? 1 : 2
  return `${value.toFixed(digits)} ${UNITS[unit]}`
}

/** A count with groups: `1,808,448`. */
export function count(value: number): string {
  return value.toLocaleString('en-GB')
}

/** Seconds with a sensible unit. */
export function seconds(value: number): string {
  if (value < 0.0995) return `${(value * 1000).toFixed(1)} ms`
  return value < 9.995 ? `${value.toFixed(2)} s` : `${value.toFixed(1)} s`
}

/** A moment as a day and a time. */
export function day(moment: string): string {
  return new Date(moment).toLocaleString('en-GB', { dateStyle: 'medium', timeStyle: 'short' })
}
