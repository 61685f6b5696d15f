import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query"
import { AlertDialog } from "radix-ui"
import { useState } from "react"
import { answer, calls, whole, type Policy, type Preview } from "./api"
import { Button, CommandLine, Instead } from "./parts"
import { bytes, count, moment } from "./words"

const verdicts: Record<string, { sign: string; colour: string }> = {
  keep: { sign: "✓", colour: "text-accent" },
  held: { sign: "!", colour: "text-careful" },
  drop: { sign: "✕", colour: "text-wrong" },
}

/** What the next rotation of a policy would do, image by image; and, where the guard holds it back, letting it happen. */
export function Rotation({ policy: p }: { policy: Policy }) {
  const [open, setOpen] = useState(false)
  const [rule, setRule] = useState("")
  const tried = rule.trim()
  const cache = useQueryClient()
  const preview = useQuery({
    queryKey: ["rotation", p.name, tried],
    enabled: open,
    staleTime: 0,
    placeholderData: (before) => before,
    // All of it: what is confirmed must be everything that goes.
    queryFn: () =>
      whole((after) =>
        calls.GET("/api/v1/policies/{name}/rotation", {
          params: { path: { name: p.name }, query: { after, ...(tried ? { rule: tried } : {}) } },
        }),
      ),
  })
  const sets = preview.data ?? []
  const drops = sets.flatMap((s) => s.images.filter((m) => m.verdict === "drop").map((m) => m.id))
  const confirm = useMutation({
    mutationFn: () =>
      answer(calls.POST("/api/v1/policies/{name}/rotation", { params: { path: { name: p.name } }, body: { drops } })),
    onSettled: () => cache.invalidateQueries({ predicate: (q) => q.queryKey[0] !== "runs" }),
    onSuccess: () => setOpen(false),
  })
  function change(to: boolean) {
    confirm.reset()
    setRule("")
    setOpen(to)
  }
  const held = p.notice !== "" && !tried
  return (
    <AlertDialog.Root open={open} onOpenChange={change}>
      <AlertDialog.Trigger asChild>
        <button className="text-quiet underline decoration-dotted underline-offset-4" data-rotation={p.name}>
          keeps {p.rotation}
        </button>
      </AlertDialog.Trigger>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 bg-black/40" />
        <AlertDialog.Content className="fixed top-1/2 left-1/2 grid max-h-[92vh] w-[min(94vw,860px)] -translate-x-1/2 -translate-y-1/2 gap-3 overflow-y-auto rounded-md border border-line bg-panel p-5 shadow-xl">
          <AlertDialog.Title className="text-lg font-semibold">The next rotation of {p.name}</AlertDialog.Title>
          <AlertDialog.Description className="text-quiet">
            It keeps {p.rotation} of each set. Nothing is dropped by looking.
          </AlertDialog.Description>
          <label className="flex flex-wrap items-center gap-2 text-sm">
            Try another rule
            <input
              className="w-72 rounded border border-line bg-ground px-2 py-1"
              placeholder="7 daily, 4 weekly, first"
              value={rule}
              onChange={(e) => setRule(e.target.value)}
            />
          </label>
          {preview.error || sets.length === 0 ? (
            <Instead loading={preview.isLoading} error={preview.error}>
              This policy has no image yet.
            </Instead>
          ) : (
            sets.map((s) => <Fates key={`${s.machine} ${s.apart}`} set={s} />)
          )}
          <CommandLine>
            {held
              ? `keenlodge rotation confirm ${p.name}`
              : `keenlodge rotation preview ${p.name}${tried ? ` --rule "${tried}"` : ""}`}
          </CommandLine>
          {confirm.error && (
            <p role="alert" className="text-wrong">
              ✕ {confirm.error.message}
            </p>
          )}
          <div className="flex justify-end gap-2">
            <AlertDialog.Cancel asChild>
              <Button>Close</Button>
            </AlertDialog.Cancel>
            {held && drops.length > 0 && (
              <Button
                does="confirm-rotation"
                strong
                disabled={confirm.isPending}
                onClick={() => confirm.mutate()}
                data-confirm-rotation
              >
                Drop {count(drops.length, "image")}
              </Button>
            )}
          </div>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  )
}

function Fates({ set: s }: { set: Preview }) {
  const gone = s.images.filter((m) => m.verdict === "drop").length
  return (
    <section aria-label={s.machine}>
      <h3 className="font-medium">
        {s.machine} in {s.store}
        {s.apart && ", images made by hand"}
        <span className="font-normal text-quiet">
          {" · "}
          {gone ? `${gone} of ${count(s.images.length, "image")} would go, ${bytes(s.gives)}` : "nothing would go"}
        </span>
      </h3>
      {s.guard && <p className="text-careful">! The guard holds this back: {s.guard}</p>}
      <div className="overflow-x-auto">
        <table className="w-full text-sm">
          <thead className="text-left text-quiet">
            <tr>
              <th className="pr-3 font-normal">Image</th>
              <th className="pr-3 font-normal">Taken</th>
              <th className="pr-3 font-normal">Capture</th>
              <th className="pr-3 text-right font-normal">Stored</th>
              <th className="pr-3 font-normal">Verdict</th>
              <th className="font-normal">Why</th>
            </tr>
          </thead>
          <tbody>
            {s.images.map((m) => (
              <tr key={m.id} className="border-t border-line align-top">
                <td className="py-1 pr-3">{m.id}</td>
                <td className="py-1 pr-3 whitespace-nowrap">{moment(m.taken)}</td>
                <td className="py-1 pr-3">{m.capture}</td>
                <td className="py-1 pr-3 text-right whitespace-nowrap">{bytes(m.stored)}</td>
                <td className={`py-1 pr-3 whitespace-nowrap ${verdicts[m.verdict]?.colour}`}>
                  {verdicts[m.verdict]?.sign} {m.verdict}
                </td>
                <td className="py-1">{m.why}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </section>
  )
}
