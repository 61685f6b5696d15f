import { scaleTime } from "d3-scale"
import { Popover } from "radix-ui"
import { useCallback, useDeferredValue, useState } from "react"
import { useLanes, type LaneImage, type Lane as LaneOf, type Machine } from "./api"
import { Button, Choice, Instead, Panel, Why } from "./parts"
import { fitting, future, piles, ranges, standing, type Pile as PileOf, type Range } from "./past"
import { bytes, clock, moment, span, tick } from "./words"

const height = 46

/** So many machines, and there is a field to find one. */
const many = 12

/** A lane for each machine: its images to the left of now, what is due to the right. */
export function Lanes(props: { now: Date; chosen: string | null; choose: (id: string) => void }) {
  const [text, setText] = useState("")
  const asked = useLanes(useDeferredValue(text.trim()))
  const lanes = asked.data?.pages.flatMap((p) => p.rows) ?? []
  const [picked, setPicked] = useState<Range | null>(null)
  const range =
    picked ??
    fitting(
      lanes.flatMap((l) => l.images),
      props.now,
    )
  const [width, box] = useWidth()
  const scale = scaleTime()
    .domain([props.now.getTime() - ranges[range] * (1 - future), props.now.getTime() + ranges[range] * future])
    .range([0, width])
  const ticks = scale.ticks(Math.max(2, Math.floor(width / 110)))
  return (
    <Panel
      title="Machines over time"
      aside={
        <span className="flex flex-wrap items-center gap-3">
          {(text !== "" || lanes.length > many || asked.hasNextPage) && (
            <input
              value={text}
              onChange={(e) => setText(e.target.value)}
              placeholder="Find a machine"
              aria-label="Find a machine"
              className="w-40 rounded border border-line bg-ground px-2 py-0.5 text-sm"
            />
          )}
          <Choice of={Object.keys(ranges) as Range[]} value={range} choose={setPicked} label="Span shown" />
        </span>
      }
    >
      {lanes.length === 0 ? (
        <Instead loading={asked.isLoading} error={asked.error}>
          {text
            ? `No machine has “${text}” in its name.`
            : "No machine is known yet. Name a hypervisor in the site file, then: keenlodge site apply FILE"}
        </Instead>
      ) : (
        <div className="grid grid-cols-[clamp(116px,18vw,220px)_minmax(0,1fr)]">
          <div className="h-7 border-b border-line" />
          <div ref={box} className="relative h-7 overflow-hidden border-b border-line text-sm text-quiet" aria-hidden>
            {ticks.map((t) => (
              <span key={+t} className="absolute top-1 -translate-x-1/2" style={{ left: scale(t) }}>
                {tick(t, ranges[range])}
              </span>
            ))}
          </div>
          {lanes.map((l) => (
            <Lane key={l.machine.id} {...props} lane={l} x={(t) => scale(t) ?? 0} width={width} />
          ))}
        </div>
      )}
      {asked.hasNextPage && (
        <p className="px-4 pt-3">
          <Button disabled={asked.isFetchingNextPage} onClick={() => void asked.fetchNextPage()}>
            More machines
          </Button>
        </p>
      )}
      <Legend />
    </Panel>
  )
}

/** The width of an element, which may come and go. */
function useWidth(): [number, React.RefCallback<HTMLDivElement>] {
  const [width, setWidth] = useState(600)
  const box = useCallback((element: HTMLDivElement | null) => {
    if (!element) return
    const look = new ResizeObserver(([e]) => e && setWidth(e.contentRect.width))
    look.observe(element)
    return () => look.disconnect()
  }, [])
  return [width, box]
}

function Lane(props: {
  now: Date
  lane: LaneOf
  x: (t: Date) => number
  width: number
  chosen: string | null
  choose: (id: string) => void
}) {
  const { now, x, width } = props
  const { machine, images, late, next } = props.lane
  const age = machine.newest ? now.getTime() - new Date(machine.newest.taken).getTime() : undefined
  const at = x(now)
  return (
    <>
      <div className="flex flex-col justify-center border-b border-line pr-2 pl-4" style={{ height }}>
        <span className="truncate font-medium" title={machine.label}>
          {machine.label}
        </span>
        <span className={`truncate text-sm ${late ? "text-wrong" : "text-quiet"}`}>
          {late ? "✕ " : ""}
          {age === undefined ? "no image" : `${span(age)} old`}
          {machine.retired
            ? " · retired"
            : machine.covered_by.length === 0 &&
              machine.state !== "gone" && <span className="text-careful"> ! not covered</span>}
        </span>
      </div>
      <div className="relative overflow-hidden border-b border-line" style={{ height }} data-lane={machine.label}>
        <div className="absolute inset-y-0 right-0 bg-ground" style={{ left: at }} />
        <div className="absolute inset-x-0 top-1/2 border-t border-line" />
        <div className="absolute inset-y-0 border-l-2 border-accent" style={{ left: at }} aria-hidden />
        {piles(images, (m) => x(new Date(m.taken))).map((pile) =>
          pile.images.length === 1 ? (
            <Mark
              key={pile.images[0]!.id}
              image={pile.images[0]!}
              machine={machine.label}
              left={pile.left}
              chosen={props.chosen === pile.images[0]!.id}
              choose={props.choose}
            />
          ) : (
            <Pile key={pile.images[0]!.id} {...pile} machine={machine} choose={props.choose} />
          ),
        )}
        {next && <Due next={next} left={x(new Date(next.at))} width={width} now={now} />}
      </div>
    </>
  )
}

/** Several images in one place: opens to a list. */
function Pile({
  left,
  images,
  machine,
  choose,
}: PileOf<LaneImage> & { machine: Machine; choose: (id: string) => void }) {
  const [open, setOpen] = useState(false)
  const stay = images.filter((m) => !m.gone).length
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger
        className="absolute top-1/2 flex -translate-x-1/2 -translate-y-1/2 items-center rounded-full border border-line bg-panel py-0.5 pr-2 pl-1 text-sm hover:border-accent"
        style={{ left: Math.max(left, 24) }}
        aria-label={`${images.length} images of ${machine.label}, ${stay} of them stay`}
        data-pile={machine.label}
      >
        <Shape image={images.find((m) => !m.gone) ?? images[0]!} />
        <span className="pl-0.5">×{images.length}</span>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          collisionPadding={8}
          sideOffset={4}
          className="z-40 max-h-72 w-[min(92vw,420px)] overflow-y-auto rounded-md border border-line bg-panel p-1 shadow-lg"
        >
          <ul aria-label={`Images of ${machine.label}`}>
            {images.map((m) => (
              <li key={m.id}>
                <button
                  className="flex w-full items-center gap-2 rounded px-2 py-1 text-left text-sm hover:bg-ground"
                  data-image={m.id}
                  onClick={() => {
                    setOpen(false)
                    choose(m.id)
                  }}
                >
                  <Shape image={m} />
                  <span className="whitespace-nowrap">{moment(m.taken)}</span>
                  <span className="truncate text-quiet">{standing(m)}</span>
                </button>
              </li>
            ))}
          </ul>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  )
}

function Mark({
  image: m,
  machine,
  left,
  chosen,
  choose,
}: {
  image: LaneImage
  machine: string
  left: number
  chosen: boolean
  choose: (id: string) => void
}) {
  const what = standing(m)
  return (
    <Why
      answer={
        <>
          <div className="font-medium">
            {m.id} · {moment(m.taken)}
          </div>
          <div>{what}</div>
          <div className="text-quiet">
            {m.consistency || "…"} · read {bytes(m.read)} · stored {bytes(m.stored)}
          </div>
        </>
      }
    >
      <button
        onClick={() => choose(m.id)}
        aria-label={`Image ${m.id} of ${machine}, ${moment(m.taken)}, ${what}`}
        data-image={m.id}
        className={`absolute top-1/2 grid size-6 -translate-x-1/2 -translate-y-1/2 place-items-center rounded-full hover:z-10 ${
          chosen ? "outline-2 outline-accent" : ""
        }`}
        style={{ left }}
      >
        <Shape image={m} />
      </button>
    </Why>
  )
}

/** Filled: proven. Ring: not proven. Cross: broken or failed. Tick: gone. Dotted ring: being written. */
function Shape({ image: m }: { image: Pick<LaneImage, "gone" | "state" | "failed" | "proven"> }) {
  const colour = m.gone
    ? "text-quiet"
    : m.state === "broken" || m.failed
      ? "text-wrong"
      : m.state === "writing" || m.state === "doubtful"
        ? "text-careful"
        : "text-accent"
  return (
    <svg viewBox="0 0 16 16" className={`size-4 ${colour}`} aria-hidden>
      {m.gone ? (
        <path d="M8 4v8" stroke="currentColor" strokeWidth="1.5" opacity=".6" />
      ) : m.state === "broken" || m.failed ? (
        <path d="M3 3l10 10M13 3L3 13" stroke="currentColor" strokeWidth="2.5" />
      ) : (
        <>
          <circle
            cx="8"
            cy="8"
            r="5.5"
            fill={m.proven && m.state === "usable" ? "currentColor" : "var(--color-panel)"}
            stroke="currentColor"
            strokeWidth="2"
            strokeDasharray={m.state === "writing" ? "2 2" : undefined}
          />
          {m.state === "doubtful" && <path d="M8 4.8v4M8 10.2v1.2" stroke="currentColor" strokeWidth="1.5" />}
          {m.proven && m.state === "usable" && (
            <path d="M5.4 8.2l1.8 1.8 3.4-3.8" fill="none" stroke="var(--color-panel)" strokeWidth="1.5" />
          )}
        </>
      )}
    </svg>
  )
}

/** The next run: a diamond at its place, or an arrow at the edge if it lies further off. */
function Due({
  next,
  left,
  width,
  now,
}: {
  next: NonNullable<LaneOf["next"]>
  left: number
  width: number
  now: Date
}) {
  const off = left > width - 12
  const at = next.at
  const room = width * future > 150
  return (
    <Why answer={`${next.policy}: ${next.says.join("; ")}. Then rotation: ${next.rotation}.`}>
      <button
        className={`absolute top-1/2 -translate-y-1/2 rounded bg-ground px-1 text-sm whitespace-nowrap text-quiet ${off ? "right-1" : "-translate-x-1/2"}`}
        style={off ? undefined : { left }}
        aria-label={`Next run of ${next.policy} ${moment(at)}`}
      >
        {!off ? "◇" : room ? `${clock(at)}, in ${span(new Date(at).getTime() - now.getTime())} ›` : "◇ ›"}
      </button>
    </Why>
  )
}

function Legend() {
  const usable = { gone: null, state: "usable" as const, failed: false, proven: "" as const }
  const entries: [string, Parameters<typeof Shape>[0]["image"]][] = [
    ["proven", { ...usable, proven: "read" }],
    ["not proven", usable],
    ["broken, or failed its proof", { ...usable, failed: true }],
    ["doubtful: damage was found once", { ...usable, state: "doubtful" }],
    ["being written", { ...usable, state: "writing" }],
    ["dropped by rotation", { ...usable, gone: "gone" }],
  ]
  return (
    <ul className="flex flex-wrap gap-x-5 gap-y-1 px-4 py-2 text-sm text-quiet" aria-label="Legend">
      {entries.map(([word, image]) => (
        <li key={word} className="flex items-center gap-1.5">
          <Shape image={image} />
          {word}
        </li>
      ))}
      <li>◇ next run</li>
    </ul>
  )
}
