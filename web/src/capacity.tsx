import type { UseQueryResult } from "@tanstack/react-query"
import type { Store } from "./api"
import { Instead, Panel, Why } from "./parts"
import { bytes, count, moment } from "./words"

export function Capacity({ stores }: { stores: UseQueryResult<Store[]> }) {
  const all = stores.data ?? []
  return (
    <Panel title="Room">
      {all.length === 0 && (
        <Instead loading={stores.isLoading} error={stores.error}>
          There is no store yet.
        </Instead>
      )}
      <ul className="divide-y divide-line">
        {all.map((s) => (
          <li key={s.name} className="px-4 py-2">
            <div className="flex items-baseline justify-between gap-3">
              <span className="font-medium">
                {s.name}
                {s.sealed && <span className="ml-2 text-sm font-normal text-quiet">sealed</span>}
              </span>
              {s.away && <span className="text-sm text-quiet">disk away since {moment(s.away)}</span>}
              {!s.error && !s.away && (
                <Why
                  answer={`${s.location}: ${count(s.images, "image")} of disks with ${bytes(s.size)} take ${bytes(s.used)}: zeros, what is repeated and what compression saves are not stored.`}
                >
                  <button className="underline decoration-dotted underline-offset-4">
                    {s.room.free_bytes < 0
                      ? `${bytes(s.used)} used`
                      : `${bytes(s.room.free_bytes)} free of ${bytes(s.room.total_bytes)}`}
                  </button>
                </Why>
              )}
            </div>
            {s.broken > 0 && (
              <p className="text-wrong">
                ✕ {count(s.broken, "image")} can’t be restored whole; mend the store: keenlodge store check {s.name}{" "}
                --repair
              </p>
            )}
            {s.error ? (
              <p className="text-wrong">✕ {s.error}</p>
            ) : (
              <p className="text-sm text-quiet">
                {count(s.images, "image")} · {bytes(s.size)} of disks{!s.away && ` in ${bytes(s.used)}`}
              </p>
            )}
          </li>
        ))}
      </ul>
    </Panel>
  )
}
