import { describe, expect, it } from "vitest"
import type { Standing } from "./api"
import { nextRun, sentence, some } from "./sentence"

const none = { count: 0, names: [] }
const well: Standing = {
  machines: 3,
  retired: 0,
  covered: 3,
  late: none,
  failed: none,
  proven: 3,
  unproven: none,
  unusual: none,
  owed: { machines: 0, kept: 0, overdue: none, failed: none, impossible: none },
  open: none,
  held: 0,
  paused: 0,
  notices: [],
  next: null,
}

describe("the headline", () => {
  it("says that all is well", () => {
    expect(sentence(well)).toEqual({ good: true, text: "✓ Every covered machine has a fresh image" })
  })
  it("says what is not", () => {
    expect(sentence({ ...well, late: { count: 1, names: ["web"] } }).text).toBe("✕ 1 machine without a fresh image")
    expect(sentence({ ...well, late: { count: 2, names: ["a", "b"] }, failed: { count: 1, names: ["c"] } })).toEqual({
      good: false,
      text: "✕ 2 machines without a fresh image, 1 newest image failed its proof",
    })
  })
  it("says what of the promises is kept", () => {
    const owed = { ...well.owed, machines: 3, kept: 3 }
    expect(sentence({ ...well, owed }).text).toBe("✓ Every covered machine has a fresh image, and what is promised")
    expect(sentence({ ...well, owed: { ...owed, kept: 1 } })).toEqual({
      good: false,
      text: "✕ 2 machines without all that is promised",
    })
  })
  it("says what is unusual", () => {
    expect(sentence({ ...well, unusual: { count: 1, names: ["web"] } }).text).toBe("✕ something unusual in 1 machine")
  })
  it("does not call nothing well", () => {
    expect(sentence({ ...well, covered: 0 }).text).toBe("No policy covers a machine yet")
  })
})

describe("some", () => {
  it("names them", () => expect(some({ count: 2, names: ["a", "b"] })).toBe("a, b"))
  it("says how many more there are", () => expect(some({ count: 9, names: ["a", "b"] })).toBe("a, b and 7 more"))
  it("is empty for none", () => expect(some(none)).toBe(""))
})

describe("the next run", () => {
  const now = new Date("2026-02-10T12:00:00Z")
  const next = { policy: "nightly-guests", at: "2026-02-10T12:30:00Z", says: [], rotation: "newest 3" }
  it("is named with its time", () =>
    expect(nextRun({ next, paused: 0 }, now)).toMatch(/^next: nightly-guests at .*, in 30 min$/))
  it("comes with what is paused", () =>
    expect(nextRun({ next, paused: 2 }, now)).toMatch(/in 30 min · 2 policies paused$/))
  it("may be none", () => expect(nextRun({ next: null, paused: 0 }, now)).toBe(""))
})
