/** Figures and times in the reader's locale, for all pages. */

const UNITS = ['B', 'KiB', 'MiB', 'GiB', 'TiB']

function number(value: number, digits: number): string {
  return value.toLocaleString(undefined, { minimumFractionDigits: digits, maximumFractionDigits: digits })
}

/** Bytes with three digits and a binary unit: `1.90 MiB`. */
export function bytes(count: number): string {
  let value = count
  let unit = 0
  while (value >= 999.5 && unit + 1 < UNITS.length) {
    value /= 1024
    unit += 1
  }
  if (unit === 0) return `${count} B`
  const digits = value >= 99.95 ? 0 : value >= 9.995 ? 1 : 2
  return `${number(value, digits)} ${UNITS[unit]}`
}

/** A count with its digits in groups: `1,808,448`. */
export function count(value: number): string {
  return value.toLocaleString()
}

/** Seconds with a unit that suits them. */
export function seconds(value: number): string {
  if (value < 0.0995) return `${number(value * 1000, 1)} ms`
  return `${number(value, value < 9.995 ? 2 : 1)} s`
}

/** A moment as a date and a time. */
export function day(moment: string): string {
  return new Date(moment).toLocaleString(undefined, { dateStyle: 'medium', timeStyle: 'short' })
}

/** A moment as a time of the day. */
export function clock(moment: string): string {
  return new Date(moment).toLocaleTimeString()
}
