import { useState } from "react"
import { answer, calls, queries } from "./api"
import { Button } from "./parts"

export function SignIn() {
  const [token, setToken] = useState("")
  const [refused, setRefused] = useState("")
  const [busy, setBusy] = useState(false)
  async function signIn(e: React.FormEvent) {
    e.preventDefault()
    setBusy(true)
    setRefused("")
    try {
      await answer(calls.POST("/api/v1/session", { body: { token: token.trim() } }))
      await queries.resetQueries()
    } catch (error) {
      setRefused((error as Error).message)
    } finally {
      setBusy(false)
    }
  }
  return (
    <main className="grid min-h-screen place-items-center p-4">
      <form onSubmit={signIn} className="w-full max-w-sm rounded-md border border-line bg-panel p-6">
        <h1 className="mb-1 text-lg font-semibold">Keen Lodge</h1>
        <p className="mb-4 text-quiet">
          Sign in with your token. Whoever has none yet makes the first on the service's host:{" "}
          <code>keenlodge token new NAME --on-this-host</code>
        </p>
        <label className="mb-1 block font-medium" htmlFor="token">
          Token
        </label>
        <input
          id="token"
          type="password"
          autoComplete="current-password"
          autoFocus
          value={token}
          onChange={(e) => setToken(e.target.value)}
          className="mb-3 w-full rounded border border-line bg-ground px-3 py-2"
        />
        {refused && (
          <p role="alert" className="mb-3 text-wrong">
            ✕ {refused}
          </p>
        )}
        <Button strong type="submit" disabled={busy || !token.trim()}>
          Sign in
        </Button>
      </form>
    </main>
  )
}
