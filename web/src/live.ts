import { useEffect, useState } from "react"
import { queries, type Change, type Run } from "./api"
import { changed } from "./change"

/** Asks again for what is shown, but for runs; several wishes in a row are one. */
const later = {
  timer: undefined as ReturnType<typeof setTimeout> | undefined,
  ask() {
    this.timer ??= setTimeout(() => {
      this.timer = undefined
      void queries.invalidateQueries({ predicate: (q) => q.queryKey[0] !== "runs" })
    }, 300)
  },
}

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
      const change = JSON.parse((e as MessageEvent<string>).data) as Change
      if (change.changed.includes("runs")) void queries.invalidateQueries({ queryKey: ["runs"] })
      queries.setQueryData<Run[]>(["runs"], (runs) => runs && changed(runs, change))
      for (const r of change.runs) void queries.invalidateQueries({ queryKey: ["log", r.id] })
      // Runs come with their own events; asking for them now might bring an answer that is older than the next event.
      const ended = change.runs.some((r) => r.ended) || change.tasks.some((t) => t.ended)
      if (ended || change.changed.some((c) => c !== "runs")) later.ask()
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
