// Builds the console into the Go program.
import tailwindcss from "@tailwindcss/vite"
import react from "@vitejs/plugin-react"
import { defineConfig } from "vite"

export default defineConfig({
  plugins: [react(), tailwindcss()],
  // The Go program embeds the result. Its .gitignore must survive, so the folder is emptied by hand.
  build: { outDir: "../internal/console/dist", emptyOutDir: false },
})
