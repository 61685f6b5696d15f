import type { Standing } from "./api"
import { clock, count, span } from "./words"

/** The answer to "is everything protected?" in one sentence. */
export function sentence(s: Standing): { good: boolean; text: string } {
  const broken = s.owed.machines - s.owed.kept
  const wrong = [
    s.late.count > 0 && `${count(s.late.count, "machine")} without a fresh image`,
    s.failed.count > 0 && `${count(s.failed.count, "newest image")} failed its proof`,
    broken > 0 && `${count(broken, "machine")} without all that is promised`,
    s.unusual.count > 0 && `something unusual in ${count(s.unusual.count, "machine")}`,
  ].filter(Boolean)
  if (wrong.length > 0) return { good: false, text: `✕ ${wrong.join(", ")}` }
  if (s.covered === 0) return { good: true, text: "No policy covers a machine yet" }
  const promised = s.owed.machines > 0 ? ", and what is promised" : ""
  return { good: true, text: "✓ Every covered machine has a fresh image" + promised }
}

/** The first names of some, and how many more there are. */
export function some(of: { count: number; names: string[] }): string {
  const more = of.count - of.names.length
  return of.names.join(", ") + (more > 0 ? ` and ${more} more` : "")
}

/** When what runs next, or nothing. */
export function nextRun(s: Pick<Standing, "next" | "paused">, now: Date): string {
  const paused = s.paused > 0 ? `${count(s.paused, "policy", "policies")} paused` : ""
  if (!s.next) return paused
  const next = `next: ${s.next.policy} at ${clock(s.next.at)}, in ${span(new Date(s.next.at).getTime() - now.getTime())}`
  return paused ? `${next} · ${paused}` : next
}
