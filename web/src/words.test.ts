import { describe, expect, it } from "vitest"
import { bytes, count, span, took } from "./words"

describe("words", () => {
  it.each([
    [0, "0 B"],
    [1023, "1023 B"],
    [1024, "1.0 KiB"],
    [10 * 1024, "10 KiB"],
    [9.96 * 1024 ** 3, "10.0 GiB"],
    [3 * 1024 ** 6, "3072 PiB"],
  ])("%d bytes are %s", (n, want) => expect(bytes(n)).toBe(want))

  it.each([
    [-5000, "0 s"],
    [59_400, "59 s"],
    [60_000, "1 min"],
    [47 * 3600_000 + 59 * 60_000, "47 h 59 min"],
    [48 * 3600_000, "2 days"],
  ])("%d ms are %s", (ms, want) => expect(span(ms)).toBe(want))

  it("counts one and many", () => {
    expect(count(1, "policy", "policies")).toBe("1 policy")
    expect(count(0, "image")).toBe("0 images")
  })

  it("says how long something took so far", () => {
    const now = new Date("2026-02-10T12:00:09.5Z")
    expect(took(null, null, now)).toBe("–")
    expect(took("2026-02-10T12:00:00Z", null, now)).toBe("9.5 s")
    expect(took("2026-02-10T12:00:00Z", "2026-02-10T12:03:00Z", now)).toBe("3 min")
  })
})
