import { QueryClient, useInfiniteQuery, useQuery, type InfiniteData } from "@tanstack/react-query"
import createClient from "openapi-fetch"
import type { components, paths } from "./schema"

export type Machine = Maybe<components["schemas"]["Machine"], "newest">
// The document can't say that an object may be null.
type Maybe<T, K extends keyof T> = Omit<T, K> & { [P in K]: T[P] | null }
export type Lane = Maybe<Omit<components["schemas"]["Lane"], "machine">, "next"> & { machine: Machine }
export type Standing = Maybe<components["schemas"]["Standing"], "next">
export type Change = components["schemas"]["Event"]
export type LaneImage = components["schemas"]["LaneImage"]
export type Image = components["schemas"]["Image"]
export type ImageView = components["schemas"]["ProvenImage"]
export type Proof = components["schemas"]["Proof"]
export type Policy = components["schemas"]["Policy"]
export type Run = components["schemas"]["Run"]
export type Task = components["schemas"]["Task"]
export type Preview = components["schemas"]["SetPreview"]
export type Forecast = components["schemas"]["Forecast"]
export type PolicyDays = components["schemas"]["PolicyDays"]
export type StoreDays = components["schemas"]["StoreDays"]
export type Store = components["schemas"]["Store"]
export type Deed = components["schemas"]["Deed"]

export const calls = createClient<paths>({ baseUrl: "/" })

/** What the lodge told when it refused a call. */
export class Refusal extends Error {
  constructor(
    message: string,
    readonly status: number,
  ) {
    super(message)
  }
}

/** Unwraps an answer; a refusal is thrown with the lodge's own words. */
export async function answer<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  const { data, error, response } = await call
  if (!response.ok) {
    const told = error as { detail?: string; title?: string } | undefined
    throw new Refusal(told?.detail ?? told?.title ?? response.statusText, response.status)
  }
  return data as T
}

export const queries = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 30_000,
      retry: (tries, error) => !(error instanceof Refusal) && tries < 3,
    },
  },
})

/** How the lodge stands: what the headline says. */
export const useStanding = () =>
  useQuery({ queryKey: ["standing"], queryFn: () => answer(calls.GET("/api/v1/summary")) })

/** Who is signed in, and what he may do. */
export const useMe = () =>
  useQuery({ queryKey: ["me"], queryFn: () => answer(calls.GET("/api/v1/me")), refetchInterval: 300_000 })

/** What of the lodge's operations a button or a list stands for. */
export type Operation = components["schemas"]["Me"]["may"][number]

/** What an operation needs that who is signed in does not have, or undefined. */
export const useNeeds = (does: Operation | undefined) => {
  const me = useMe()
  return does && me.data?.needs[does]
}

/** What was done to something, newest first, where that may be seen. */
export const useTrail = (target: string, open: boolean) =>
  useQuery({
    queryKey: ["trail", target],
    enabled: open,
    staleTime: 0,
    queryFn: () => answer(calls.GET("/api/v1/trail", { params: { query: { target, limit: 20 } } })),
  })

/** A page of a list, and the cursor of the next one. */
export type Page<T> = { rows: T[]; next: string | null }

/** The cursor in a Link header (RFC 8288), or null. */
export function cursor(link: string | null): string | null {
  const address = /^<([^>]*)>/.exec(link ?? "")?.[1]
  return address ? new URL(address, "http://lodge").searchParams.get("after") : null
}

/** A list that comes in pages, page after page until it is whole. */
export async function whole<T>(
  page: (after: string | undefined) => Promise<{ data?: T[]; error?: unknown; response: Response }>,
): Promise<T[]> {
  const rows: T[] = []
  let after: string | undefined
  do {
    const call = await page(after)
    rows.push(...(await answer(Promise.resolve(call))))
    after = cursor(call.response.headers.get("Link")) ?? undefined
  } while (after)
  return rows
}

export const lanesAtOnce = 25

/** Machines over time, a page after the other. */
export const useLanes = (text: string) =>
  useInfiniteQuery<Page<Lane>, Error, InfiniteData<Page<Lane>>, string[], string>({
    queryKey: ["lanes", text],
    initialPageParam: "",
    placeholderData: (before) => before,
    queryFn: async ({ pageParam }): Promise<Page<Lane>> => {
      const call = await calls.GET("/api/v1/lanes", {
        params: { query: { limit: lanesAtOnce, after: pageParam || undefined, text: text || undefined } },
      })
      return { rows: await answer(Promise.resolve(call)), next: cursor(call.response.headers.get("Link")) }
    },
    getNextPageParam: (last) => last.next,
  })
export const usePolicies = () =>
  useQuery({ queryKey: ["policies"], queryFn: () => answer(calls.GET("/api/v1/policies")) })
export const useStores = () => useQuery({ queryKey: ["stores"], queryFn: () => answer(calls.GET("/api/v1/stores")) })
export const useRuns = () =>
  useQuery({
    queryKey: ["runs"],
    queryFn: () => answer(calls.GET("/api/v1/runs", { params: { query: { limit: 40 } } })),
  })
export const useImage = (id: string | null) =>
  useQuery({
    queryKey: ["images", id],
    enabled: id !== null,
    queryFn: () => answer(calls.GET("/api/v1/images/{id}", { params: { path: { id: id! } } })),
  })
/** The future of all policies; it is played anew when a run has ended. */
export const useForecast = (days: number) =>
  useQuery({
    queryKey: ["forecast", days],
    queryFn: () => answer(calls.GET("/api/v1/forecast", { params: { query: { days } } })),
    placeholderData: (before) => before,
  })
export const useRunLog = (id: string | null) =>
  useQuery({
    queryKey: ["log", id],
    enabled: id !== null,
    queryFn: () => answer(calls.GET("/api/v1/runs/{id}/log", { params: { path: { id: id! } } })),
  })
