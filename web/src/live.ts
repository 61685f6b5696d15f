import { useEffect, useState } from "react"
import { queries, type Run } from "./api"

/** Keeps everything on the page as it is now, by the lodge's stream of changes. Tells whether the stream stands. */
export function useLive(): boolean {
  const [connected, setConnected] = useState(true)
  useEffect(() => {
    const stream = new EventSource("/api/v1/events")
    let begun = false
    stream.addEventListener("hello", () => {
      setConnected(true)
      // After a break something may have been missed; the first hello comes before anything is.
      if (begun) void queries.invalidateQueries()
      begun = false
    })
    stream.addEventListener("change", (e) => {
      const change = JSON.parse((e as MessageEvent<string>).data) as { kind: string; run?: Run }
      const run = change.run
      if (!run && change.kind === "runs") {
        void queries.invalidateQueries({ queryKey: ["runs"] })
        return
      }
      if (!run) {
        // Runs come with their own events; asking for them now might bring an answer that is older than the next event.
        void queries.invalidateQueries({ predicate: (q) => q.queryKey[0] !== "runs" })
        return
      }
      queries.setQueryData<Run[]>(["runs"], (runs = []) =>
        runs.some((r) => r.id === run.id) ? runs.map((r) => (r.id === run.id ? run : r)) : [run, ...runs],
      )
      void queries.invalidateQueries({ queryKey: ["log", run.id] })
      if (run.ended || run.tasks.some((t) => t.ended)) {
        for (const key of ["images", "machines", "policies", "stores", "forecast"]) {
          void queries.invalidateQueries({ queryKey: [key] })
        }
      }
    })
    stream.onerror = () => {
      begun = true
      setConnected(false)
    }
    return () => stream.close()
  }, [])
  return connected
}

/** The present moment, once in so many milliseconds. */
export function useNow(every = 1000): Date {
  const [now, setNow] = useState(() => new Date())
  useEffect(() => {
    const timer = setInterval(() => setNow(new Date()), every)
    return () => clearInterval(timer)
  }, [every])
  return now
}
