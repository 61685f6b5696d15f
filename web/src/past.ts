import type { LaneImage } from "./api"

/** What lanes draw of the past: no more than figures, so that it can be tested without a page. */

const hour = 3600_000
export const ranges = { "10 min": hour / 6, hour, day: 24 * hour, week: 7 * 24 * hour, month: 30 * 24 * hour }
export type Range = keyof typeof ranges

/** The part of the width that belongs to what is to come. */
export const future = 0.22

/** The shortest span that shows every image that stays. */
export function fitting(images: Pick<LaneImage, "gone" | "taken">[], now: Date): Range {
  const oldest = Math.min(...images.filter((m) => !m.gone).map((m) => new Date(m.taken).getTime()))
  if (!Number.isFinite(oldest)) return "day"
  const age = now.getTime() - oldest
  return (Object.keys(ranges) as Range[]).find((r) => age < ranges[r] * (1 - future)) ?? "month"
}

/** Images in one place of a lane, newest first. */
export type Pile<M> = { left: number; images: M[] }

/** Marks closer than so many pixels would hide each other, so they become one pile; a pile is wider than a mark. */
const touching = (pile: Pile<unknown>) => (pile.images.length > 1 ? 44 : 20)

/** Puts images that lie too close together into piles, newest first in each; what lies left of the lane is left out. */
export function piles<M extends Pick<LaneImage, "taken">>(images: M[], x: (m: M) => number): Pile<M>[] {
  const found: Pile<M>[] = []
  for (const m of images.toSorted((a, b) => b.taken.localeCompare(a.taken))) {
    const left = x(m)
    const last = found.at(-1)
    if (left < 0) continue
    if (last && last.left - left < touching(last)) last.images.push(m)
    else found.push({ left, images: [m] })
  }
  return found.toReversed()
}

/** What can be said of an image in a few words. */
export function standing(m: Pick<LaneImage, "gone" | "gone_why" | "state" | "failed" | "proven">): string {
  if (m.gone) return `gone: ${m.gone_why}`
  if (m.state !== "usable") return m.state
  if (m.failed) return "failed its proof"
  return m.proven ? `proven by ${m.proven}` : "not proven yet"
}
