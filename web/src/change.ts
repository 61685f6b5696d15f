import type { Change, Run } from "./api"

/** How many runs the page keeps. */
export const runsShown = 40

/** Brings a list of runs, newest first, up to date: a run that changed keeps the tasks that are known of it. */
export function changed(runs: Run[], change: Change): Run[] {
  let out = runs
  for (const r of change.runs) {
    const known = out.find((o) => o.id === r.id)
    out = known ? out.map((o) => (o === known ? { ...r, tasks: o.tasks } : o)) : [r, ...out]
  }
  if (change.tasks.length > 0) {
    out = out.map((r) => {
      const of = change.tasks.filter((t) => t.run === r.id)
      if (of.length === 0) return r
      const tasks = r.tasks.map((t) => of.find((o) => o.id === t.id) ?? t)
      return { ...r, tasks: [...tasks, ...of.filter((t) => !r.tasks.some((o) => o.id === t.id))] }
    })
  }
  return out === runs ? runs : out.toSorted((a, b) => b.made.localeCompare(a.made)).slice(0, runsShown)
}
