import { scaleLinear } from "d3-scale"
import { useState } from "react"
import { useForecast, type Forecast, type PolicyDays, type StoreDays } from "./api"
import { Choice, Instead, Panel, Why } from "./parts"
import { bytes, clock, count } from "./words"

const spans = { "7 days": 7, "30 days": 30, "90 days": 90 }
type Span = keyof typeof spans

/** What will come: runs, the images that will exist and those that go, and whether it fits. */
export function Coming() {
  const [span, setSpan] = useState<Span>("30 days")
  const forecast = useForecast(spans[span])
  const f = forecast.data
  return (
    <div className="mt-4">
      <Panel
        title="What will come"
        aside={<Choice of={Object.keys(spans) as Span[]} value={span} choose={setSpan} label="Days ahead" />}
      >
        {!f || f.policies.length === 0 ? (
          <Instead loading={forecast.isLoading} error={forecast.error}>
            No policy, no future.
          </Instead>
        ) : (
          <Days forecast={f} />
        )}
      </Panel>
    </div>
  )
}

function Days({ forecast: f }: { forecast: Forecast }) {
  const days = f.policies[0]!.days
  const named = Math.max(1, Math.ceil(days.length / 12))
  const columns = { gridTemplateColumns: `repeat(${days.length}, minmax(0, 1fr))` }
  return (
    <div className="grid grid-cols-[clamp(116px,18vw,220px)_minmax(0,1fr)]" data-testid="forecast">
      <div className="border-b border-line" />
      <div
        className="grid h-7 items-center overflow-hidden border-b border-line text-sm text-quiet"
        style={columns}
        aria-hidden
      >
        {days.map((d, i) => (
          <span
            key={d.date}
            className={`overflow-visible whitespace-nowrap ${i % (named * 4) ? "max-md:invisible" : ""}`}
          >
            {i % named === 0 && day(d.date)}
          </span>
        ))}
      </div>
      {f.policies.map((p) => (
        <Lane key={p.policy} lane={p} crowds={f.crowds} columns={columns} />
      ))}
      {f.stores.map((s) => (
        <Free key={s.store} store={s} dates={days.map((d) => d.date)} />
      ))}
      <p className="col-span-2 px-4 py-2 text-sm text-quiet">
        <i className="mr-1 inline-block h-3 w-1.5 bg-accent align-middle" /> full images
        <i className="mr-1 ml-4 inline-block h-2 w-1 bg-accent/60 align-middle" /> changes only
        <i className="mr-1 ml-4 inline-block h-3 w-3 bg-accent/15 align-middle" /> images at the day’s end
        {f.crowds.length > 0 && (
          <>
            {" · "}
            <Why
              answer={f.crowds
                .slice(0, 6)
                .map(
                  (c) =>
                    `${c.on}, ${day(c.from.slice(0, 10))} ${clock(c.from)}: ${c.machines} machines of ${c.policies.join(", ")} where ${c.allowed} are captured at once`,
                )
                .join("; ")}
            >
              <button className="text-careful underline decoration-dotted underline-offset-4">
                ! {count(f.crowds.length, "time")} policies meet and wait for each other
              </button>
            </Why>
          </>
        )}
        {f.unreached.length > 0 && (
          <>
            {" · "}
            <Why answer={f.unreached.join("; ")}>
              <button className="text-careful underline decoration-dotted underline-offset-4">
                ! {count(f.unreached.length, "store")} out of reach
              </button>
            </Why>
          </>
        )}
        {f.guessed.length > 0 && (
          <>
            {" · "}
            <Why
              answer={`Too few images yet: ${f.guessed.join(", ")}. A full image is taken for half of the disks, a change for 5 % of it.`}
            >
              <button className="underline decoration-dotted underline-offset-4">
                {count(f.guessed.length, "size")} guessed
              </button>
            </Why>
          </>
        )}
      </p>
    </div>
  )
}

function Lane(props: { lane: PolicyDays; crowds: Forecast["crowds"]; columns: React.CSSProperties }) {
  const { lane } = props
  const most = Math.max(1, ...lane.days.map((d) => d.images))
  const wide = lane.days.length <= 31
  return (
    <>
      <div className="border-b border-line px-4 py-2">
        <span className="font-medium">{lane.policy}</span>
        <span className="block text-sm text-quiet">{count(lane.days.flatMap((d) => d.runs).length, "run")}</span>
      </div>
      <div className="grid border-b border-line" style={props.columns}>
        {lane.days.map((d) => {
          const full = d.runs.reduce((n, r) => n + r.full, 0)
          const crowded = props.crowds.some((c) => c.policies.includes(lane.policy) && c.from.slice(0, 10) === d.date)
          const tell = `${day(d.date)}: ${d.runs.length ? `runs at ${d.runs.map((r) => clock(r.at)).join(", ")}` : "no run"}; ${full ? `${count(full, "full image")}; ` : ""}${count(d.images, "image")} at its end, ${d.held ? "the guard holds the rotation back" : `${d.dropped} dropped`}; ${about(d.taken)} taken`
          return (
            <Why key={d.date} answer={tell}>
              <button
                aria-label={tell}
                className={`relative h-14 border-l ${monday(d.date) ? "border-quiet/50" : "border-line/60"} hover:bg-ground`}
              >
                <span
                  className="absolute inset-x-px bottom-0 bg-accent/15"
                  style={{ height: `${(d.images / most) * 26}px` }}
                />
                {wide && (
                  <span className="absolute inset-x-0 bottom-0 text-center text-[11px] leading-3 max-md:hidden">
                    {d.images}
                    <span className="block h-3 text-wrong">{d.held ? "held" : d.dropped > 0 && `−${d.dropped}`}</span>
                  </span>
                )}
                {d.runs.slice(0, 24).map((r) => (
                  <span
                    key={r.at}
                    className={`absolute top-2 ${r.full > 0 ? "h-4 w-1.5 bg-accent" : "mt-2 h-2 w-1 bg-accent/60"}`}
                    style={{ left: `${hour(r.at) * 0.9}%` }}
                  />
                ))}
                {crowded && (
                  <span className="absolute top-0 right-0.5 text-[11px] leading-3 text-careful" aria-hidden>
                    !
                  </span>
                )}
              </button>
            </Why>
          )
        })}
      </div>
    </>
  )
}

/** A store's free room: the likely course within its range, and the floor. */
function Free({ store: s, dates }: { store: StoreDays; dates: string[] }) {
  if (s.free.length === 0)
    return (
      <>
        <div className="border-b border-line px-4 py-2 font-medium">{s.store}</div>
        <p className="border-b border-line py-2 text-sm text-quiet">its medium does not tell how much is free</p>
      </>
    )
  const high = Math.max(...s.free.map((r) => r.high))
  const low = Math.max(0, Math.min(s.floor || high, high * 0.9, ...s.free.map((r) => r.low)))
  const y = scaleLinear().domain([low, high]).range([58, 6])
  const x = scaleLinear().domain([0, dates.length]).range([0, 100])
  const edge = (pick: (r: StoreDays["free"][number]) => number) =>
    s.free.map((r, i) => `${x(i + 1)},${y(Math.max(low, pick(r)))}`)
  const last = s.free.at(-1)!
  return (
    <>
      <div className="border-b border-line px-4 py-2">
        <span className="font-medium">{s.store}</span>
        {s.hit ? (
          <span className="block text-sm text-wrong">✕ floor hit on {day(s.hit)}</span>
        ) : s.hit_early ? (
          <span className="block text-sm text-careful">! at worst hit on {day(s.hit_early)}</span>
        ) : (
          <span className="block text-sm text-quiet">{s.floor ? "✓ floor not hit" : "no floor"}</span>
        )}
      </div>
      <Why
        answer={`${bytes(s.free[0]!.likely)} free tonight, ${bytes(Math.max(0, last.likely))} on ${day(dates.at(-1)!)} (from ${bytes(Math.max(0, last.low))} to ${bytes(last.high)})${s.floor ? `; ${bytes(s.floor)} must stay free` : ""}`}
      >
        <button className="relative block h-16 border-b border-line text-left" aria-label={`Free room of ${s.store}`}>
          <svg viewBox="0 0 100 64" preserveAspectRatio="none" className="absolute inset-0 size-full" aria-hidden>
            <polygon
              points={[...edge((r) => r.high), ...edge((r) => r.low).reverse()].join(" ")}
              className="fill-accent/20"
            />
            <polyline
              points={edge((r) => r.likely).join(" ")}
              className="fill-none stroke-accent"
              strokeWidth="2"
              vectorEffect="non-scaling-stroke"
            />
            {s.floor > 0 && (
              <line
                x1="0"
                x2="100"
                y1={y(s.floor)}
                y2={y(s.floor)}
                className="stroke-wrong"
                strokeDasharray="6 4"
                vectorEffect="non-scaling-stroke"
              />
            )}
          </svg>
          <span className="absolute right-2 bottom-1 text-sm text-quiet">{bytes(Math.max(0, last.likely))} free</span>
        </button>
      </Why>
    </>
  )
}

function about(r: { low: number; likely: number; high: number }): string {
  const [low, likely, high] = [bytes(r.low), bytes(r.likely), bytes(r.high)]
  return low === high ? likely : `${likely} (${low} to ${high})`
}

function day(date: string): string {
  return new Date(`${date}T00:00:00`).toLocaleDateString(undefined, { day: "numeric", month: "short" })
}

function monday(date: string): boolean {
  return new Date(`${date}T00:00:00`).getDay() === 1
}

/** The hour of a moment as the site's clock shows it, in percent of a day. */
function hour(at: string): number {
  return ((Number(at.slice(11, 13)) * 60 + Number(at.slice(14, 16))) / (24 * 60)) * 100
}
