import { useMutation, type UseQueryResult } from "@tanstack/react-query"
import { AlertDialog } from "radix-ui"
import { useState } from "react"
import { answer, calls, type Policy, type Run } from "./api"
import { Button, CommandLine, Instead, Panel, State } from "./parts"
import { some } from "./sentence"
import { Rotation } from "./rotation"
import { Trail } from "./trail"
import { moment, span } from "./words"

export function Policies(props: { now: Date; policies: UseQueryResult<Policy[]>; runs: Run[] }) {
  const policies = props.policies.data ?? []
  return (
    <Panel title="Policies">
      {policies.length === 0 && (
        <Instead loading={props.policies.isLoading} error={props.policies.error}>
          There is no policy yet. Write one into the site file, then: keenlodge site apply FILE
        </Instead>
      )}
      <ul className="divide-y divide-line">
        {policies.map((p) => (
          <li key={p.name} className="px-4 py-2">
            <div className="flex items-center justify-between gap-3">
              <span className="font-medium">{p.name}</span>
              <Start
                policy={p}
                going={props.runs.some((r) => r.kind === "backup" && r.policy === p.name && !r.ended)}
              />
            </div>
            {p.notice && <p className="text-careful">! {p.notice}</p>}
            {p.paused && (
              <p className="text-careful">
                ! paused{p.paused.until && ` until ${moment(p.paused.until)}`}
                {p.paused.by && ` by ${p.paused.by}`}
                {p.paused.why && `: ${p.paused.why}`} · go on with: keenlodge policy resume {p.name}
              </p>
            )}
            <p className="text-sm text-quiet">
              {some({ count: p.covered, names: p.covers }) || "covers nothing"}{" "}
              {p.scope === "inplace" ? "in place" : `→ ${p.store}`}
            </p>
            <p className="text-sm text-quiet">
              {p.next_due ? (
                <time title={moment(p.next_due)}>
                  next in {span(new Date(p.next_due).getTime() - props.now.getTime())} (
                  {p.schedules?.map((s) => s.when).join(", ")})
                </time>
              ) : (
                p.says.join("; ") || "started by hand only"
              )}
              {" · "}
              {p.cycle && `${p.cycle}, ${p.capture || "incremental"} between · `}
              <Rotation policy={p} />
            </p>
            <Trail of={`/api/v1/policies/${encodeURIComponent(p.name)}/`} />
          </li>
        ))}
      </ul>
    </Panel>
  )
}

/** Starts a policy, after it has said what that does. */
function Start({ policy: p, going }: { policy: Policy; going: boolean }) {
  const [open, setOpen] = useState(false)
  const start = useMutation({
    mutationFn: () => answer(calls.POST("/api/v1/policies/{name}/runs", { params: { path: { name: p.name } } })),
    onSuccess: () => setOpen(false),
  })
  function change(to: boolean) {
    start.reset()
    setOpen(to)
  }
  return (
    <AlertDialog.Root open={open} onOpenChange={change}>
      {going ? (
        <State of="running" />
      ) : (
        <AlertDialog.Trigger asChild>
          <Button
            does="run-policy"
            notHere={p.partly ? "It covers machines, too, that your role does not reach." : undefined}
            data-start={p.name}
          >
            Run now …
          </Button>
        </AlertDialog.Trigger>
      )}
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 bg-black/40" />
        <AlertDialog.Content className="fixed top-1/2 left-1/2 grid w-[min(92vw,460px)] -translate-x-1/2 -translate-y-1/2 gap-3 rounded-md border border-line bg-panel p-5 shadow-xl">
          <AlertDialog.Title className="text-lg font-semibold">Run {p.name} now?</AlertDialog.Title>
          <AlertDialog.Description className="text-quiet">
            It {p.scope === "inplace" ? "keeps a snapshot" : "takes an image"} of{" "}
            {some({ count: p.covered, names: p.covers }) || "nothing"}{" "}
            {p.scope === "inplace" ? "in place" : `into ${p.store}`}
            {p.quiesce !== "off" && ", freezing running guests for a moment"}. Then its rotation keeps {p.rotation} and
            drops what no clause keeps.
          </AlertDialog.Description>
          <CommandLine>{`keenlodge policy run ${p.name} --wait`}</CommandLine>
          {start.error && (
            <p role="alert" className="text-wrong">
              ✕ {start.error.message}
            </p>
          )}
          <div className="flex justify-end gap-2">
            <AlertDialog.Cancel asChild>
              <Button>Not now</Button>
            </AlertDialog.Cancel>
            <Button strong disabled={start.isPending} onClick={() => start.mutate()} data-confirm={p.name}>
              Run it
            </Button>
          </div>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  )
}
