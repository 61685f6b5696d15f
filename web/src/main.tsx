import { QueryClientProvider } from "@tanstack/react-query"
import { Tooltip } from "radix-ui"
import { StrictMode } from "react"
import { createRoot } from "react-dom/client"
import { queries, Refusal, useMachines } from "./api"
import "./index.css"
import { Instead } from "./parts"
import { SignIn } from "./signin"
import { Watch } from "./watch"

function App() {
  const machines = useMachines()
  if (machines.error instanceof Refusal && machines.error.status === 401) return <SignIn />
  if (!machines.data) return <Instead loading={machines.isLoading} error={machines.error} children="" />
  return <Watch />
}

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <Tooltip.Provider delayDuration={150}>
        <App />
      </Tooltip.Provider>
    </QueryClientProvider>
  </StrictMode>,
)
