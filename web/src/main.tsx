import { connection } from './api/connection'
import './app.css'
import { settleLanguage } from './language'

const root = document.getElementById('root')!

/** Reads the words, and then what has them. */
async function read() {
  await settleLanguage()
  return import('./App')
}

/** Where the service has gone away since it sent the page, or has become another, the page is read anew once it answers; not over and over. */
async function readAgain() {
  const last = Number(sessionStorage.getItem('read again'))
  if (Date.now() - last < 10_000) {
    root.textContent = 'The console could not be read. Reload the page; if that does not help, the log of the service may say more.'
    return
  }
  root.textContent = 'The service does not answer. This page goes on when it does.'
  await connection.back()
  sessionStorage.setItem('read again', String(Date.now()))
  location.reload()
}

void read().then(({ draw }) => draw(root), readAgain)
