import { useMutation, useQueryClient } from "@tanstack/react-query"
import { Dialog } from "radix-ui"
import { answer, calls, useImage, type ImageView, type Proof } from "./api"
import { Button, CommandLine, Instead, State } from "./parts"
import { Trail } from "./trail"
import { bytes, moment, span, took } from "./words"

/** An image's details and its proofs, at the side. */
export function ImageSheet({ id, close }: { id: string | null; close: () => void }) {
  const image = useImage(id)
  return (
    <Dialog.Root open={id !== null} onOpenChange={(open) => !open && close()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-black/30" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed inset-y-0 right-0 w-[min(100vw,480px)] overflow-y-auto border-l border-line bg-panel p-5 shadow-xl"
          data-testid="image"
        >
          <div className="mb-3 flex items-start justify-between gap-3">
            <Dialog.Title className="text-lg font-semibold">
              {image.data ? `${image.data.machine}, ${moment(image.data.taken)}` : "Image"}
            </Dialog.Title>
            <Dialog.Close asChild>
              <Button aria-label="Close">✕</Button>
            </Dialog.Close>
          </div>
          {image.data ? (
            <Details image={image.data} />
          ) : (
            <Instead loading={image.isLoading} error={image.error} children="" />
          )}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  )
}

const consistencies: Record<string, string> = {
  application: "application: scripts in the guest ran, and the freeze held",
  filesystem: "filesystem: the freeze held",
  crash: "crash: no freeze, as after a power cut",
  off: "off: the machine was switched off",
  "each file": "each file: as it was at a moment of its own, while the machine ran",
}

function Details({ image: m }: { image: ImageView }) {
  const rows: [string, string][] = [
    ["Image", m.id],
    ["State", m.gone ? `gone since ${moment(m.gone)}: ${m.gone_why}` : m.state],
    ["Policy", m.policy],
    ["Store", m.store],
    ["Capture", `${m.capture}, scope ${m.scope}${m.since && `, changes since image ${m.since}`}`],
    ...(m.capture_why ? ([["Full because", m.capture_why]] as [string, string][]) : []),
    ...(m.base ? ([["Leans on", m.base]] as [string, string][]) : []),
    ...(m.note ? ([["Note", m.note]] as [string, string][]) : []),
    ["Pinned", m.pinned ? m.pin_note || "yes" : "no"],
    ["Consistency", consistencies[m.consistency] ?? "–"],
    ["Frozen for", m.frozen ? `${Math.round(m.frozen / 1e6)} ms` : "–"],
    ...(m.files
      ? ([
          ["Files", `${m.files.entries}, with ${bytes(m.files.bytes)} of content`],
          ...(m.files.parts?.length
            ? [["Parts", m.files.parts.map((p) => `${p.name} ${bytes(p.bytes)}`).join(", ")]]
            : []),
          ...(m.files.unread ? [["Could not be read", `${m.files.unread} files`]] : []),
          ...(m.files.left_out ?? []).map((l) => [`Left out: ${l.rule}`, `${l.files} files, ${bytes(l.bytes)}`]),
        ] as [string, string][])
      : ([["Disks", m.disks.map((d) => `${d.target} ${bytes(d.size)}`).join(", ")]] as [string, string][])),
    ...m.rested.map((r): [string, string] => [
      "Application",
      r.failed ? `${r.name}: ${r.failed}` : `${r.name} was at rest`,
    ]),
    ["Took", m.took ? (m.took < 1e10 ? `${(m.took / 1e9).toFixed(1)} s` : span(m.took / 1e6)) : "–"],
    ["Read", bytes(m.read)],
    ["New to the store", `${bytes(m.fresh)}, stored as ${bytes(m.stored)}`],
  ]
  return (
    <>
      <dl className="mb-4 grid grid-cols-[130px_1fr] gap-y-1">
        {rows.map(([name, value]) => (
          <div key={name} className="contents">
            <dt className="text-quiet">{name}</dt>
            <dd className="min-w-0 break-words">{value}</dd>
          </div>
        ))}
      </dl>
      <h3 className="mb-2 font-semibold">Proof</h3>
      {m.proofs.length === 0 && <p className="mb-3 text-quiet">Nothing proves yet that this image can be trusted.</p>}
      <ul className="mb-4 grid gap-3">
        {m.proofs.map((p) => (
          <OneProof key={p.id} proof={p} />
        ))}
      </ul>
      {(m.state === "usable" || m.state === "doubtful") && !m.gone && <Actions image={m} />}
      {m.gone && m.in_store && !m.leaving && <Undrop image={m} />}
      <Trail of={`/api/v1/images/${encodeURIComponent(m.id)}`} />
    </>
  )
}

function OneProof({ proof: p }: { proof: Proof }) {
  return (
    <li className="rounded border border-line p-3">
      <div className="flex flex-wrap items-baseline gap-x-3">
        <State of={p.passed ? "passed" : "failed"} />
        <span className="font-medium">by {p.level}</span>
        <span className="text-sm text-quiet">
          {moment(p.ended)}, after {took(p.began, p.ended, new Date())}, {p.program}
        </span>
      </div>
      <ul className="mt-1 text-sm">
        {p.evidence.map((e) => (
          <li key={e}>{e}</li>
        ))}
      </ul>
      {p.error && <p className="text-wrong">✕ {p.error}</p>}
    </li>
  )
}

/** Brings a dropped image back while its store still has it. */
function Undrop({ image: m }: { image: ImageView }) {
  const cache = useQueryClient()
  const undrop = useMutation({
    mutationFn: () => answer(calls.POST("/api/v1/images/{id}/undrop", { params: { path: { id: m.id } } })),
    onSettled: () => cache.invalidateQueries({ queryKey: ["images"] }),
  })
  return (
    <div className="grid gap-3">
      <p className="text-quiet">
        Its store still has it: it can be brought back{m.base && ", with all that it leans on"}.
      </p>
      <div>
        <Button does="undrop-image" strong disabled={undrop.isPending} onClick={() => undrop.mutate()}>
          Bring it back
        </Button>
      </div>
      {undrop.error && (
        <p role="alert" className="text-wrong">
          ✕ {undrop.error.message}
        </p>
      )}
      <CommandLine>{`keenlodge image undrop ${m.id}`}</CommandLine>
    </div>
  )
}

function Actions({ image: m }: { image: ImageView }) {
  const prove = useMutation({
    mutationFn: (level: "read" | "mount") =>
      answer(calls.POST("/api/v1/images/{id}/proofs", { params: { path: { id: m.id } }, body: { level } })),
  })
  return (
    <div className="grid gap-3">
      <div className="flex gap-2">
        {!m.files && (
          <Button
            does="prove-image"
            strong
            disabled={prove.isPending}
            onClick={() => prove.mutate("mount")}
            data-prove="mount"
          >
            Prove by mount
          </Button>
        )}
        <Button does="prove-image" disabled={prove.isPending} onClick={() => prove.mutate("read")} data-prove="read">
          Prove by read
        </Button>
      </div>
      {prove.error && (
        <p role="alert" className="text-wrong">
          ✕ {prove.error.message}
        </p>
      )}
      {prove.isSuccess && <p className="text-quiet">Started; the outcome appears above.</p>}
      <p className="text-sm text-quiet">
        {m.files
          ? "The same, and its files, from a command line:"
          : "The same, and a restore as a new guest, from a command line:"}
      </p>
      <CommandLine>
        {m.files
          ? `keenlodge image prove ${m.id} --level read --wait\nkeenlodge image files ${m.id}`
          : `keenlodge image prove ${m.id} --level mount --wait\nkeenlodge image restore ${m.id} --as ${m.machine}-again --start --wait`}
      </CommandLine>
    </div>
  )
}
