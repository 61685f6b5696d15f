import { ToggleGroup, Tooltip } from "radix-ui"
import type { ReactNode } from "react"
import { useNeeds, type Operation } from "./api"

/** A sign and a word for each state; colour only adds to them. */
const states: Record<string, { sign: string; colour: string }> = {
  done: { sign: "✓", colour: "text-accent" },
  passed: { sign: "✓", colour: "text-accent" },
  warned: { sign: "!", colour: "text-careful" },
  failed: { sign: "✕", colour: "text-wrong" },
  broken: { sign: "✕", colour: "text-wrong" },
  skipped: { sign: "–", colour: "text-quiet" },
  cancelled: { sign: "–", colour: "text-careful" },
  queued: { sign: "…", colour: "text-quiet" },
  running: { sign: "▸", colour: "text-accent" },
}

export function State({ of }: { of: string }) {
  const s = states[of] ?? { sign: "·", colour: "text-quiet" }
  return (
    <span className={`whitespace-nowrap ${s.colour}`}>
      <span aria-hidden className="inline-block w-4 text-center font-semibold">
        {s.sign}
      </span>
      {of}
    </span>
  )
}

/** Answers "why?" on hover and on focus. */
export function Why({ children, answer }: { children: ReactNode; answer: ReactNode }) {
  return (
    <Tooltip.Root>
      <Tooltip.Trigger asChild>{children}</Tooltip.Trigger>
      <Tooltip.Portal>
        <Tooltip.Content
          sideOffset={6}
          collisionPadding={8}
          className="z-50 max-w-80 rounded border border-line bg-panel px-3 py-2 text-sm text-ink shadow-lg"
        >
          {answer}
          <Tooltip.Arrow className="fill-line" />
        </Tooltip.Content>
      </Tooltip.Portal>
    </Tooltip.Root>
  )
}

export function Panel({ title, aside, children }: { title: string; aside?: ReactNode; children: ReactNode }) {
  return (
    <section aria-label={title} className="min-w-0 rounded-md border border-line bg-panel">
      <header className="flex flex-wrap items-baseline justify-between gap-x-4 gap-y-1 border-b border-line px-4 py-2">
        <h2 className="font-semibold">{title}</h2>
        <div className="text-sm text-quiet">{aside}</div>
      </header>
      {children}
    </section>
  )
}

/** A button. One that does what who is signed in may not is grey, and says what it needs, or why not here. */
export function Button({
  strong,
  does,
  notHere,
  ...rest
}: React.ButtonHTMLAttributes<HTMLButtonElement> & {
  strong?: boolean
  does?: Operation
  notHere?: string
  ref?: React.Ref<HTMLButtonElement>
}) {
  const needs = useNeeds(does) ?? notHere
  const look = strong
    ? "border-accent bg-accent text-on-accent hover:opacity-90"
    : "border-line bg-panel text-ink hover:border-accent hover:text-accent"
  const shape = "rounded border px-3 py-1 text-sm font-medium whitespace-nowrap"
  if (needs)
    return (
      <Why answer={needs}>
        <button
          type="button"
          {...rest}
          aria-disabled
          onClick={(e) => e.preventDefault()}
          className={`${shape} cursor-not-allowed border-line bg-ground text-quiet`}
        />
      </Why>
    )
  return <button type="button" {...rest} className={`${shape} disabled:opacity-50 ${look}`} />
}

/** One of a few, side by side. */
export function Choice<T extends string>(props: { of: T[]; value: T; choose: (v: T) => void; label: string }) {
  return (
    <ToggleGroup.Root
      type="single"
      value={props.value}
      onValueChange={(v) => v && props.choose(v as T)}
      aria-label={props.label}
      className="flex overflow-hidden rounded border border-line"
    >
      {props.of.map((v) => (
        <ToggleGroup.Item
          key={v}
          value={v}
          className="px-3 py-0.5 data-[state=on]:bg-accent data-[state=on]:text-on-accent"
        >
          {v}
        </ToggleGroup.Item>
      ))}
    </ToggleGroup.Root>
  )
}

/** The command line that does the same. */
export function CommandLine({ children }: { children: string }) {
  return (
    <code className="block overflow-x-auto rounded border border-line bg-ground px-3 py-2 text-sm whitespace-pre">
      {children}
    </code>
  )
}

/** What stands where there is nothing to show yet, or nothing could be had. */
export function Instead({ loading, error, children }: { loading: boolean; error: Error | null; children: ReactNode }) {
  if (error)
    return (
      <p role="alert" className="px-4 py-3 text-wrong">
        ✕ {error.message}
      </p>
    )
  return <p className="px-4 py-3 text-quiet">{loading ? "Asking the lodge …" : children}</p>
}
