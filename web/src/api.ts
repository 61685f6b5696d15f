import { QueryClient, useQuery } from "@tanstack/react-query"
import createClient from "openapi-fetch"
import type { components, paths } from "./schema"

export type Machine = components["schemas"]["Machine"]
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

export const useMachines = () =>
  useQuery({ queryKey: ["machines"], queryFn: () => answer(calls.GET("/api/v1/machines")) })
export const usePolicies = () =>
  useQuery({ queryKey: ["policies"], queryFn: () => answer(calls.GET("/api/v1/policies")) })
export const useStores = () => useQuery({ queryKey: ["stores"], queryFn: () => answer(calls.GET("/api/v1/stores")) })
export const useRuns = () =>
  useQuery({
    queryKey: ["runs"],
    queryFn: () => answer(calls.GET("/api/v1/runs", { params: { query: { limit: 40 } } })),
  })
/** All images, those that rotation dropped too: the past has them. */
export const useImages = () =>
  useQuery({
    queryKey: ["images"],
    queryFn: () => answer(calls.GET("/api/v1/images", { params: { query: { gone: true } } })),
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
