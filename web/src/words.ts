/** Figures and times in words. */

export function bytes(n: number): string {
  const units = ["B", "KiB", "MiB", "GiB", "TiB", "PiB"]
  let i = 0
  while (n >= 1024 && i < units.length - 1) {
    n /= 1024
    i++
  }
  return `${n < 10 && i > 0 ? n.toFixed(1) : Math.round(n)} ${units[i]}`
}

/** A span in its two largest useful units. */
export function span(ms: number): string {
  const s = Math.max(0, Math.round(ms / 1000))
  if (s < 60) return `${s} s`
  const m = Math.floor(s / 60)
  if (m < 60) return `${m} min`
  const h = Math.floor(m / 60)
  if (h < 48) return `${h} h ${m % 60} min`
  return `${Math.floor(h / 24)} days`
}

/** How long something took, exactly enough. */
export function took(from: string | null, to: string | null, now: Date): string {
  if (!from) return "–"
  const ms = (to ? new Date(to) : now).getTime() - new Date(from).getTime()
  return ms < 10_000 ? `${(Math.max(0, ms) / 1000).toFixed(1)} s` : span(ms)
}

/** A moment to the second, in this browser's zone, by the clock of 24 hours. */
export function moment(at: string | Date): string {
  return new Date(at).toLocaleString(undefined, { dateStyle: "medium", timeStyle: "medium", hourCycle: "h23" })
}

export function clock(at: string | Date, seconds = false): string {
  return new Date(at).toLocaleTimeString(undefined, {
    hour: "2-digit",
    minute: "2-digit",
    second: seconds ? "2-digit" : undefined,
    hourCycle: "h23",
  })
}

/** A place on the axis of time that shows so many milliseconds. */
export function tick(at: Date, shown: number): string {
  const midnight = at.getHours() === 0 && at.getMinutes() === 0
  if (shown <= 2 * 24 * 3600_000 && !midnight) return clock(at)
  return at.toLocaleDateString(undefined, { day: "numeric", month: "short" }) + (midnight ? "" : ` ${clock(at)}`)
}

export function count(n: number, one: string, many = one + "s"): string {
  return `${n} ${n === 1 ? one : many}`
}
