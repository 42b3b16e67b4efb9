import 'bootstrap/dist/css/bootstrap.min.css'
import './theme.css'
import { createRoot } from 'react-dom/client'
import { App } from './App'
import { applyTheme } from './theme'

applyTheme()
const root = document.getElementById('root')
if (root) createRoot(root).render(<App />)
