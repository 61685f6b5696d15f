import { describe, expect, it } from "vitest"
import { fitting, piles, standing } from "./past"

const now = new Date("2026-02-10T12:00:00Z")
const at = (minutes: number) => ({
  id: `m${minutes}`,
  taken: new Date(now.getTime() - minutes * 60_000).toISOString(),
  gone: null as string | null,
})

describe("piles", () => {
  const x = (m: { id: string }) => 1000 - Number(m.id.slice(1))

  it("leaves marks alone that do not touch", () => {
    expect(piles([at(0), at(100), at(200)], x).map((p) => [p.left, p.images.length])).toEqual([
      [800, 1],
      [900, 1],
      [1000, 1],
    ])
  })

  it("counts in each pile its own images, not those of the lane", () => {
    const found = piles([at(0), at(5), at(10), at(400), at(410), at(900)], x)
    expect(found.map((p) => p.images.map((m) => m.id))).toEqual([["m900"], ["m400", "m410"], ["m0", "m5", "m10"]])
  })

  it("leaves out what lies left of the lane", () => {
    expect(piles([at(0), at(1001)], x)).toHaveLength(1)
  })

  it("neither loses nor doubles an image, whatever the order", () => {
    const images = Array.from({ length: 60 }, (_, i) => at((i * 37) % 977))
    const ids = piles(images.toReversed(), x).flatMap((p) => p.images.map((m) => m.id))
    expect(ids.toSorted()).toEqual(images.map((m) => m.id).toSorted())
  })
})

describe("fitting", () => {
  it("shows every image that stays", () => {
    expect(fitting([at(2)], now)).toBe("10 min")
    expect(fitting([at(2), at(60 * 20)], now)).toBe("week")
    expect(fitting([at(2), { ...at(60 * 20), gone: "2026-02-10T11:00:00Z" }], now)).toBe("10 min")
  })
  it("shows a day where there is none, and a month where they are older", () => {
    expect(fitting([], now)).toBe("day")
    expect(fitting([at(60 * 24 * 90)], now)).toBe("month")
  })
})

describe("standing", () => {
  const image = { gone: null, gone_why: "", state: "usable", failed: false, proven: "" } as const
  it.each([
    [image, "not proven yet"],
    [{ ...image, proven: "mount" }, "proven by mount"],
    [{ ...image, proven: "mount", failed: true }, "failed its proof"],
    [{ ...image, state: "broken", proven: "read" }, "broken"],
    [{ ...image, gone: "2026-02-10T11:00:00Z", gone_why: "no clause keeps it" }, "gone: no clause keeps it"],
  ] as const)("%#", (m, want) => expect(standing(m)).toBe(want))
})
