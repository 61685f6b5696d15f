import type { Standing } from "./api"
import { Why } from "./parts"
import { nextRun, sentence, some } from "./sentence"
import { count } from "./words"

/** The answer in one sentence, before any table. */
export function Headline({ now, standing: s }: { now: Date; standing: Standing | undefined }) {
  if (!s) return <div className="h-16" />
  const said = sentence(s)
  const next = nextRun(s, now)
  return (
    <div className="mb-4 border-l-4 border-accent pl-4" data-testid="headline">
      <p className="text-xl leading-7 font-semibold">
        <span className={said.good ? "" : "text-wrong"}>{said.text}</span>
      </p>
      <p className="text-quiet">
        <Why
          answer={
            s.unproven.count > 0 ? `Not proven: ${some(s.unproven)}.` : "Every newest image is proven, or failed."
          }
        >
          <button className="underline decoration-dotted underline-offset-4">
            {s.proven} of {s.covered} newest images proven
          </button>
        </Why>
        {s.late.count > 0 && ` · late: ${some(s.late)}`}
        {s.unusual.count > 0 && ` · unusual: ${some(s.unusual)}`}
        {s.open.count > 0 && (
          <>
            {" · "}
            <Why answer={`No policy selects ${some(s.open)}.`}>
              <button className="text-careful underline decoration-dotted underline-offset-4">
                ! {count(s.open.count, "machine")} not covered
              </button>
            </Why>
          </>
        )}
        {s.notices.length > 0 && (
          <>
            {" · "}
            <Why answer={s.notices.map((n) => `${n.on}: ${n.text}`).join("; ")}>
              <button className="text-careful underline decoration-dotted underline-offset-4">
                ! {s.held > 0 ? `${count(s.held, "rotation")} held back` : `${count(s.notices.length, "notice")}`}
              </button>
            </Why>
          </>
        )}
        {next && ` · ${next}`}
      </p>
    </div>
  )
}
