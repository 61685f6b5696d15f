import { useMutation, type UseQueryResult } from "@tanstack/react-query"
import { AlertDialog, Collapsible, Progress } from "radix-ui"
import { useState } from "react"
import { answer, calls, useRunLog, type Run, type Task } from "./api"
import { Button, CommandLine, Instead, Panel, State } from "./parts"
import { count, bytes, clock, moment, span, took } from "./words"

/** What runs and what ran, newest first. */
export function Runs(props: { now: Date; runs: UseQueryResult<Run[]>; chooseImage: (id: string) => void }) {
  const runs = props.runs.data ?? []
  return (
    <Panel title="Runs" aside="newest first">
      {runs.length === 0 && (
        <Instead loading={props.runs.isLoading} error={props.runs.error}>
          Nothing ran yet. Start a policy, or wait for its schedule.
        </Instead>
      )}
      <ul className="max-h-[60vh] divide-y divide-line overflow-y-auto">
        {runs.map((r) => (
          <li key={r.id}>
            <OneRun run={r} {...props} />
          </li>
        ))}
      </ul>
    </Panel>
  )
}

function OneRun({ run: r, now, chooseImage }: { run: Run; now: Date; chooseImage: (id: string) => void }) {
  const going = !r.ended
  const [opened, setOpened] = useState<boolean | null>(null)
  const open = opened ?? (going || r.state === "failed")
  const what =
    r.kind === "backup"
      ? r.policy
      : r.kind === "rehearsal"
        ? `rehearsal of ${r.policy}`
        : `${r.kind} of ${r.tasks[0]?.machine ?? "…"}`
  return (
    <Collapsible.Root open={open} onOpenChange={setOpened} data-run={r.id} data-state-of-run={r.state}>
      <Collapsible.Trigger className="flex w-full flex-wrap items-baseline gap-x-4 px-4 py-2 text-left hover:bg-ground">
        <span className="w-20">
          <State of={r.state} />
        </span>
        <span className="font-medium">{what}</span>
        <span className="text-sm text-quiet">
          {r.kind === "backup" ? `${count(r.machines, "machine")}, by ${r.who || r.cause}` : ""}
        </span>
        <span className="ml-auto text-sm text-quiet">
          {r.started
            ? `${span(now.getTime() - new Date(r.started).getTime())} ago · took ${took(r.started, r.ended, now)}`
            : r.waits
              ? `waits: ${r.waits}`
              : r.ended
                ? `${span(now.getTime() - new Date(r.made).getTime())} ago`
                : "waits for its turn"}
        </span>
      </Collapsible.Trigger>
      <Collapsible.Content className="px-4 pb-3">
        {r.error && (
          <p className={`mb-2 ${r.state === "failed" ? "text-wrong" : "text-quiet"}`}>
            {r.state === "failed" ? "✕" : "–"} {r.error}
          </p>
        )}
        <div className="grid gap-2">
          {r.tasks.map((t) => (
            <OneTask key={t.id} task={t} now={now} chooseImage={chooseImage} />
          ))}
        </div>
        {going && <Cancel run={r} />}
        <Log run={r} />
      </Collapsible.Content>
    </Collapsible.Root>
  )
}

function OneTask({ task: t, now, chooseImage }: { task: Task; now: Date; chooseImage: (id: string) => void }) {
  const over = !!t.ended
  const part = over && t.state !== "failed" ? 1 : t.total > 0 ? Math.min(1, t.done / t.total) : 0
  const seconds = t.started ? ((t.ended ? new Date(t.ended) : now).getTime() - new Date(t.started).getTime()) / 1000 : 0
  return (
    <div className="grid gap-x-3 sm:grid-cols-[130px_minmax(80px,1fr)_auto]">
      <span className="truncate">{t.machine}</span>
      <Progress.Root
        value={Math.round(part * 100)}
        aria-label={`Progress of ${t.machine}`}
        className="my-auto h-2 overflow-hidden rounded-full bg-line"
      >
        <Progress.Indicator
          className={`h-full transition-[width] ${t.state === "failed" ? "bg-wrong" : "bg-accent"}`}
          style={{ width: `${part * 100}%` }}
        />
      </Progress.Root>
      <span className="text-sm text-quiet sm:w-64 sm:text-right">
        {over ? <State of={t.state} /> : t.step || (t.why ? `waits: ${t.why}` : "waits for its turn")} · {bytes(t.done)}
        {seconds > 0.2 && t.done > 0 && `, ${bytes(t.done / seconds)}/s`}
      </span>
      {(t.warnings.length > 0 || t.error) && (
        <p className="text-sm sm:col-span-3">
          {t.warnings.map((w) => (
            <span key={w} className="block text-careful">
              ! {w}
            </span>
          ))}
          {t.error && <span className="block text-wrong">✕ {t.error}</span>}
        </p>
      )}
      {over && t.why && <p className="text-sm text-quiet sm:col-span-3">– {t.why}</p>}
      {over && t.steps.length > 0 && (
        <p className="text-sm text-quiet sm:col-span-3">
          {t.steps.map((s) => `${s.name} ${(s.took / 1e9).toFixed(1)} s`).join(" · ")}
          {t.tries > 1 && ` · tried ${t.tries} times`}
        </p>
      )}
      {over && t.state !== "failed" && (
        <p className="text-sm text-quiet sm:col-span-3">
          {t.image && (
            <button className="text-accent underline underline-offset-2" onClick={() => chooseImage(t.image)}>
              image {t.image}
            </button>
          )}
          {t.fresh > 0 && ` · new to the store ${bytes(t.fresh)}, stored as ${bytes(t.stored)}`}
          {t.frozen > 0 && ` · frozen for ${Math.round(t.frozen / 1e6)} ms`}
        </p>
      )}
    </div>
  )
}

/** Ends a run, after it has said what that does. */
function Cancel({ run: r }: { run: Run }) {
  const [open, setOpen] = useState(false)
  const cancel = useMutation({
    mutationFn: () => answer(calls.POST("/api/v1/runs/{id}/cancel", { params: { path: { id: r.id } }, body: {} })),
    onSuccess: () => setOpen(false),
  })
  return (
    <AlertDialog.Root open={open} onOpenChange={setOpen}>
      <AlertDialog.Trigger asChild>
        <Button does="cancel-run" data-cancel={r.id} className="mt-2">
          Cancel …
        </Button>
      </AlertDialog.Trigger>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 bg-black/40" />
        <AlertDialog.Content className="fixed top-1/2 left-1/2 grid w-[min(92vw,460px)] -translate-x-1/2 -translate-y-1/2 gap-3 rounded-md border border-line bg-panel p-5 shadow-xl">
          <AlertDialog.Title className="text-lg font-semibold">Cancel this run?</AlertDialog.Title>
          <AlertDialog.Description className="text-quiet">
            Guests are thawed and captures ended at once. Images that it has not completed are not kept; what arrived of
            them is reused by the next run.
          </AlertDialog.Description>
          <CommandLine>{`keenlodge run cancel ${r.id}`}</CommandLine>
          {cancel.error && (
            <p role="alert" className="text-wrong">
              ✕ {cancel.error.message}
            </p>
          )}
          <div className="flex justify-end gap-2">
            <AlertDialog.Cancel asChild>
              <Button>Let it go on</Button>
            </AlertDialog.Cancel>
            <Button strong disabled={cancel.isPending} onClick={() => cancel.mutate()} data-confirm-cancel={r.id}>
              Cancel it
            </Button>
          </div>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  )
}

function Log({ run }: { run: Run }) {
  const [open, setOpen] = useState(false)
  const log = useRunLog(open ? run.id : null)
  return (
    <Collapsible.Root open={open} onOpenChange={setOpen} className="mt-2">
      <Collapsible.Trigger className="text-sm text-quiet underline decoration-dotted underline-offset-4">
        {open ? "Hide the log" : "Show the log"}
      </Collapsible.Trigger>
      <Collapsible.Content className="mt-2 grid gap-2">
        {log.data ? (
          <ol className="max-h-60 overflow-y-auto rounded border border-line bg-ground p-2 text-sm">
            {log.data.map((l) => (
              <li key={l.id} className="flex gap-3">
                <time className="text-quiet" title={moment(l.at)}>
                  {clock(l.at, true)}
                </time>
                <span className="w-28 shrink-0 truncate text-quiet">{l.machine}</span>
                <span className="min-w-0 break-words">{l.text}</span>
              </li>
            ))}
          </ol>
        ) : (
          <Instead loading={log.isLoading} error={log.error} children="" />
        )}
        <CommandLine>{`keenlodge run log ${run.id}`}</CommandLine>
      </Collapsible.Content>
    </Collapsible.Root>
  )
}
