import { useState } from "react"
import { calls, queries, useMe, usePolicies, useRuns, useStanding, useStores } from "./api"
import { Coming } from "./forecast"
import { Headline } from "./headline"
import { ImageSheet } from "./image"
import { Lanes } from "./lanes"
import { useLive, useNow } from "./live"
import { Policies } from "./policies"
import { Capacity } from "./capacity"
import { Runs } from "./runs"
import { Why } from "./parts"
import { clock, moment } from "./words"

/** The one page: was everything protected, can it be trusted, what comes next, does it fit. */
export function Watch() {
  const connected = useLive()
  const now = useNow()
  const [image, setImage] = useState<string | null>(null)
  const standing = useStanding()
  const policies = usePolicies()
  const runs = useRuns()
  const stores = useStores()
  const me = useMe()
  async function signOut() {
    await calls.DELETE("/api/v1/session")
    await queries.resetQueries()
  }
  return (
    <div className="mx-auto max-w-[1440px] px-4 pb-8">
      <header className="flex flex-wrap items-center gap-x-6 gap-y-1 py-3">
        <h1 className="flex items-center gap-2 font-semibold tracking-tight">
          <svg viewBox="0 0 16 16" className="size-5 text-accent" aria-hidden>
            <path d="M2 14V7l6-5 6 5v7M8 14V8" fill="none" stroke="currentColor" strokeWidth="1.8" />
          </svg>
          Keen Lodge
        </h1>
        <span className={`text-sm ${connected ? "text-quiet" : "text-wrong"}`} role="status">
          {connected ? `live · ${clock(now, true)}` : "✕ not connected; trying again"}
        </span>
        {me.data && (
          <Why
            answer={
              <>
                {me.data.roles.map((r) => (
                  <span key={r} className="block">
                    {r}
                  </span>
                ))}
                until {moment(me.data.expires)}
              </>
            }
          >
            <button className="ml-auto text-sm text-quiet underline decoration-dotted underline-offset-4" data-me>
              {me.data.name}
            </button>
          </Why>
        )}
        <button onClick={signOut} className="text-sm text-quiet underline-offset-2 hover:underline">
          Sign out
        </button>
      </header>
      <Headline now={now} standing={standing.data} />
      <Lanes now={now} chosen={image} choose={setImage} />
      <Coming />
      <div className="mt-4 grid gap-4 lg:grid-cols-[minmax(0,3fr)_minmax(0,2fr)]">
        <Runs now={now} runs={runs} chooseImage={setImage} />
        <div className="grid content-start gap-4">
          <Policies now={now} policies={policies} runs={runs.data ?? []} />
          <Capacity stores={stores} />
        </div>
      </div>
      <ImageSheet id={image} close={() => setImage(null)} />
    </div>
  )
}
