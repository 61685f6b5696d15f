import { QueryClientProvider } from "@tanstack/react-query"
import { Tooltip } from "radix-ui"
import { StrictMode } from "react"
import { createRoot } from "react-dom/client"
import { queries, Refusal, useStanding } from "./api"
import "./index.css"
import { Instead } from "./parts"
import { SignIn } from "./signin"
import { Watch } from "./watch"

function App() {
  const standing = useStanding()
  if (standing.error instanceof Refusal && standing.error.status === 401) return <SignIn />
  if (!standing.data) return <Instead loading={standing.isLoading} error={standing.error} children="" />
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
