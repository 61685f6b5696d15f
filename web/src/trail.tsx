import { Collapsible } from "radix-ui"
import { useState } from "react"
import { useNeeds, useTrail, type Deed } from "./api"
import { Instead, Why } from "./parts"
import { moment } from "./words"

/** What was done to something, by whom; nothing where that may not be seen. */
export function Trail({ of }: { of: string }) {
  const [open, setOpen] = useState(false)
  const needs = useNeeds("list-trail")
  const trail = useTrail(of, open)
  if (needs) return null
  return (
    <Collapsible.Root open={open} onOpenChange={setOpen} className="mt-1">
      <Collapsible.Trigger
        className="text-sm text-quiet underline decoration-dotted underline-offset-4"
        data-trail={of}
      >
        {open ? "Hide who did what" : "Who did what"}
      </Collapsible.Trigger>
      <Collapsible.Content className="mt-2">
        {trail.data?.length ? (
          <ol className="grid gap-1 rounded border border-line bg-ground p-2 text-sm">
            {trail.data.map((d) => (
              <OneDeed key={d.id} deed={d} />
            ))}
          </ol>
        ) : (
          <Instead loading={trail.isLoading} error={trail.error}>
            Nobody did anything to it yet.
          </Instead>
        )}
      </Collapsible.Content>
    </Collapsible.Root>
  )
}

const signs: Record<Deed["result"], string> = { done: "✓", begun: "…", refused: "–", failed: "✕" }

function OneDeed({ deed: d }: { deed: Deed }) {
  return (
    <li className="flex flex-wrap gap-x-3">
      <time className="text-quiet">{moment(d.at)}</time>
      <Why answer={`from ${d.address}`}>
        <button className="font-medium">{d.who || "a stranger"}</button>
      </Why>
      <span>
        {signs[d.result]} {d.verb.replaceAll("-", " ")}
        {d.result !== "done" && `: ${d.result}`}
      </span>
      {d.reason && <span className="text-quiet">“{d.reason}”</span>}
      {d.why && <span className="text-careful">{d.why}</span>}
    </li>
  )
}
