// Runs axe on a page, then opens whatever of it opens a window or a menu, and what opens from the menus, runs axe on each, and closes it again.
// All rules are asked in the light theme; in the dark one those that colours decide about, as nothing else differs: on each page, and on
// windows where `windows` is set, as their parts are on the page /parts too.
// `known` are those that were opened before, by what they are called. Answers what axe found, and what was opened.
(async (known, windows) => {
  const opened = [], faults = []
  const wait = (ms) => new Promise((done) => setTimeout(done, ms))
  const shown = () => document.querySelector('[role=dialog]') ?? document.querySelector('[role=menu], [role=listbox]')
  const until = async (is) => { for (let i = 0; i < 100 && !is(); i++) await wait(20); return is() }
  const escape = async () => {
    for (let i = 0; i < 3 && shown(); i++) {
      (document.activeElement ?? document.body).dispatchEvent(new KeyboardEvent('keydown', { key: 'Escape', code: 'Escape', bubbles: true, cancelable: true }))
      await wait(120)
    }
    return !shown()
  }
  const themes = { light: {}, dark: { runOnly: { type: 'rule', values: ['color-contrast', 'link-in-text-block'] } } }
  const judge = async (called, what) => {
    for (const [theme, rules] of Object.entries(themes)) {
      if (theme === 'dark' && what !== document && !windows) continue
      document.documentElement.dataset.theme = theme
      await wait(50)
      const found = await axe.run(what, { resultTypes: ['violations'], ...rules })
      faults.push(...found.violations.map((v) => `${called}, ${theme} theme: ${v.id}: ${v.help} — ${v.nodes.slice(0, 3).map((n) => n.html.slice(0, 160) + (n.any[0]?.message ?? '')).join(' | ')}`))
    }
    document.documentElement.dataset.theme = 'light'
  }
  const look = async (called) => {
    await wait(150) // what it reads first
    opened.push(called)
    await judge(called, shown())
  }
  // What helps beside the first field of a window opens over it.
  const lookAtHelp = async (called) => {
    const help = shown().querySelector('button[aria-label^="What is"]')
    if (!help) return
    help.click()
    const over = () => [...document.querySelectorAll('[role=dialog]')].find((d) => d.innerText.includes('The guide:') && !d.querySelector('form'))
    if (!(await until(over))) { faults.push(`help in ${called} opens nothing`); return }
    opened.push(`help in ${called}`)
    await judge(`help in ${called}`, over())
  }
  const openers = () => [...document.querySelectorAll('[aria-haspopup]:not([disabled])')]
  const open = async (opener) => {
    opener.focus()
    if (opener.getAttribute('aria-haspopup') === 'menu') opener.dispatchEvent(new KeyboardEvent('keydown', { key: 'Enter', bubbles: true, cancelable: true }))
    else opener.click()
    return until(shown)
  }
  const name = (e) => (e.getAttribute('aria-label') ?? e.innerText).trim().replace(/[\w-]+@\d+|(?<!\w)[a-z]+-[a-z0-9-]+/g, '…')
  await judge('the page', document)
  for (let i = 0; i < openers().length; i++) {
    const called = name(openers()[i])
    if (known.includes(called) || opened.includes(called)) continue
    if (!(await open(openers()[i]))) { faults.push(`${called} opens nothing`); continue }
    const menu = shown().getAttribute('role') === 'menu'
    await look(called)
    if (!menu) await lookAtHelp(called)
    const items = menu ? [...shown().querySelectorAll('[role=menuitem]')].map((e) => e.innerText.trim()) : []
    if (!(await escape())) faults.push(`${called} cannot be closed by Escape`)
    for (const item of items.filter((t) => t.endsWith('…'))) {
      await open(openers()[i])
      ;[...shown().querySelectorAll('[role=menuitem]')].find((e) => e.innerText.trim() === item).click()
      if (!(await until(() => document.querySelector('[role=dialog]')))) { faults.push(`${item} of ${called} opens nothing`); continue }
      await look(`${item} of ${called}`)
      if (!(await escape())) faults.push(`${item} of ${called} cannot be closed by Escape`)
    }
  }
  return { opened, faults }
})
