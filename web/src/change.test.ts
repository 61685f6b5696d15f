import { describe, expect, it } from "vitest"
import type { Change, Run, Task } from "./api"
import { changed, runsShown } from "./change"

const run = (id: string, made: string, more: Partial<Run> = {}) =>
  ({ id, made, state: "running", tasks: [], ...more }) as unknown as Run
const task = (id: number, of: string, done: number) => ({ id, run: of, done }) as unknown as Task
const nothing: Change = { runs: [], tasks: [], changed: [] }

describe("a change", () => {
  const runs = [run("b", "2026-02-02"), run("a", "2026-02-01", { tasks: [task(1, "a", 5)] })]

  it("that is about something else leaves the list as it is", () => {
    expect(changed(runs, { ...nothing, changed: ["site"] })).toBe(runs)
    expect(changed(runs, { ...nothing, tasks: [task(9, "elsewhere", 1)] })).toEqual(runs)
  })
  it("of a run keeps its tasks", () => {
    const after = changed(runs, { ...nothing, runs: [run("a", "2026-02-01", { state: "done" } as Partial<Run>)] })
    expect(after.map((r) => [r.id, r.state, r.tasks.length])).toEqual([
      ["b", "running", 0],
      ["a", "done", 1],
    ])
  })
  it("of tasks replaces those that are known and adds the others", () => {
    const after = changed(runs, { ...nothing, tasks: [task(1, "a", 9), task(2, "a", 1)] })
    expect(after[1]!.tasks.map((t) => [t.id, t.done])).toEqual([
      [1, 9],
      [2, 1],
    ])
  })
  it("brings a new run in its place, and the list stays short", () => {
    let list: Run[] = []
    for (let i = 0; i < runsShown + 5; i++)
      list = changed(list, { ...nothing, runs: [run(`r${i}`, `2026-03-${10 + i}`)] })
    expect(list).toHaveLength(runsShown)
    expect(list[0]!.id).toBe(`r${runsShown + 4}`)
  })
})
