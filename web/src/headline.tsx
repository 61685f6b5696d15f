import type { Image, Machine, Policy } from "./api"
import { Why } from "./parts"
import { clock, count, span } from "./words"

/** A policy of daily runs promises an image of the last day, with two hours to be made in. */
export const promise = 26 * 3600_000

export function newestUsable(images: Image[], machine: string): Image | undefined {
  return images.find((m) => m.machine === machine && m.state === "usable" && !m.gone)
}

/** The answer in one sentence, before any table. */
export function Headline(props: {
  now: Date
  machines: Machine[]
  images: Image[]
  policies: Policy[]
  ready: boolean
}) {
  const { now, images, policies } = props
  if (!props.ready) return <div className="h-16" />
  const machines = props.machines.filter((m) => m.state !== "gone")
  const covered = new Set(policies.flatMap((p) => p.covers))
  const due = machines.filter((m) => covered.has(m.name))
  const late = due.filter((m) => {
    const newest = newestUsable(images, m.name)
    return !newest || now.getTime() - new Date(newest.taken).getTime() > promise
  })
  const failed = due.filter((m) => newestUsable(images, m.name)?.failed)
  const proven = due.filter((m) => newestUsable(images, m.name)?.proven)
  const open = machines.filter((m) => !covered.has(m.name))
  const held = policies.filter((p) => p.notice !== "")
  const next = policies
    .filter((p) => p.next_due)
    .sort((a, b) => a.next_due!.localeCompare(b.next_due!))
    .at(0)
  const bad = late.length > 0 || failed.length > 0
  return (
    <div className="mb-4 border-l-4 border-accent pl-4" data-testid="headline">
      <p className="text-xl leading-7 font-semibold">
        {bad ? (
          <span className="text-wrong">
            ✕ {late.length > 0 && `${count(late.length, "machine")} without a fresh image`}
            {late.length > 0 && failed.length > 0 && ", "}
            {failed.length > 0 && `${count(failed.length, "newest image")} failed its proof`}
          </span>
        ) : due.length === 0 ? (
          <span>No policy covers a machine yet</span>
        ) : (
          <span>✓ Every covered machine has a fresh image</span>
        )}
      </p>
      <p className="text-quiet">
        <Why
          answer={`Newest image with a passed proof: ${proven.map((m) => m.name).join(", ") || "none"}. Not proven: ${
            due
              .filter((m) => !proven.includes(m))
              .map((m) => m.name)
              .join(", ") || "none"
          }.`}
        >
          <button className="underline decoration-dotted underline-offset-4">
            {proven.length} of {due.length} newest images proven
          </button>
        </Why>
        {late.length > 0 && ` · late: ${late.map((m) => m.name).join(", ")}`}
        {open.length > 0 && (
          <>
            {" · "}
            <Why answer={`No policy selects ${open.map((m) => m.name).join(", ")}.`}>
              <button className="text-careful underline decoration-dotted underline-offset-4">
                ! {count(open.length, "machine")} not covered
              </button>
            </Why>
          </>
        )}
        {held.length > 0 && (
          <>
            {" · "}
            <Why answer={held.map((p) => `${p.name}: ${p.notice}`).join("; ")}>
              <button className="text-careful underline decoration-dotted underline-offset-4">
                ! {count(held.length, "rotation")} held back
              </button>
            </Why>
          </>
        )}
        {next &&
          ` · next: ${next.name} at ${clock(next.next_due!)}, in ${span(new Date(next.next_due!).getTime() - now.getTime())}`}
      </p>
    </div>
  )
}
