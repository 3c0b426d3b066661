import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useState } from 'react'
import type { Schemas } from '../../api/client'
import { useAddToken, useAddUser, useMe, useRemoveToken, useRemoveUser, useSetPassword, useTokens, useUsers } from '../../api/hooks'
import { Copy } from '../../parts/Copy'
import { Ask, text } from '../../parts/Dialog'
import { SelectField, TextField } from '../../parts/Field'
import { Head } from '../../parts/Head'
import { Rows } from '../../parts/Rows'
import { Empty, Shown } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'
import { When } from '../../parts/When'

const roles = [
  { value: 'builder', label: t`builder: builds, makes and changes` }, { value: 'viewer', label: t`viewer: looks, and changes nothing` },
  { value: 'owner', label: t`owner: everything, hosts and people too` },
]

export function People() {
  const users = useUsers()
  const me = useMe().data
  const owner = me?.role === 'owner'
  return (
    <>
      <Head title={t`People`} facts={t`Who may use the service, and the tokens of programs.`}>
        <Password name={me?.name ?? ''} own />
        {owner && <AddUser />}
      </Head>
      <div className="grid gap-4 lg:grid-cols-2 items-start">
        <Sheet title={t`Users`}>
          <Shown of={users}>{(rows) => (
            <Rows caption={t`Users`} rows={rows} by={(u) => u.name} columns={[
              { head: t`Name`, grow: true, cell: (u) => <b>{u.name}{u.name === me?.name && <span className="font-normal text-soft"><Trans>, you</Trans></span>}</b> },
              { head: t`Role`, cell: (u) => u.role },
              { head: t`Since`, cell: (u) => <When at={u.created_at} /> },
              { head: '', cell: (u) => owner && u.name !== me?.name && <span className="flex gap-1.5 justify-end"><Password name={u.name} /><RemoveUser name={u.name} /></span> },
            ]} />
          )}</Shown>
        </Sheet>
        <Tokens />
      </div>
    </>
  )
}

function AddUser() {
  const add = useAddUser()
  return (
    <Ask asks="NewUser" button={t`Add a user`} primary title={t`Add a user`} action={t`Add`} about={t`Tell them the password by another way than their name; they change it on this page.`}
      onSubmit={(f) => add.mutateAsync({ name: text(f, 'name'), role: text(f, 'role') as Schemas['NewUser']['role'], password: String(f.get('password')) })}>
      <TextField label={t`Name`} name="name" hint={t`small letters, digits, dots, dashes`} mono />
      <SelectField label={t`Role`} name="role" choices={roles} />
      <TextField label={t`Password`} name="password" type="password" autoComplete="new-password" hint={t`at least ten characters`} />
    </Ask>
  )
}

function Password({ name, own }: { name: string; own?: boolean }) {
  const set = useSetPassword()
  return (
    <Ask asks="NewPassword" small={!own} button={own ? t`Change your password` : t`Password…`} title={own ? t`Change your password` : t`Give ${name} a new password`} action={t`Change it`}
      about={t`Whoever is logged in with the old one is logged out.`} onSubmit={(f) => set.mutateAsync({ name, old: String(f.get('old') ?? '') || undefined, new: String(f.get('new')) })}>
      <TextField label={own ? t`Password so far` : t`Your own password`} name="old" type="password" required autoComplete="current-password" />
      <TextField label={t`New password`} name="new" type="password" autoComplete="new-password" hint={t`at least ten characters`} />
    </Ask>
  )
}

function RemoveUser({ name }: { name: string }) {
  const remove = useRemoveUser()
  return (
    <Ask small danger button={t`Remove…`} title={t`Remove ${name}`} action={t`Remove them`} about={t`They are logged out, and their tokens are of no use any more. What they did stays in the records.`}
      onSubmit={() => remove.mutateAsync(name)} />
  )
}

/** Tokens of one's own: each is shown once. */
function Tokens() {
  const tokens = useTokens()
  const add = useAddToken()
  const remove = useRemoveToken()
  const [made, setMade] = useState('')
  return (
    <Sheet title={t`Your tokens`} aside={
      <Ask asks="NewToken" small button={t`Make a token`} title={t`Make a token`} action={t`Make it`} about={t`A program that has it may do all that you may.`}
        onSubmit={async (f) => setMade((await add.mutateAsync({ name: text(f, 'name'), days: Number(text(f, 'days')) || undefined })).token)}>
        <TextField label={t`What is it for?`} name="name" />
        <TextField label={t`Days`} name="days" type="number" min={0} max={3650} hint={t`expires after so many days; empty for never`} />
      </Ask>}>
      {made && <p role="status" className="mx-4 mb-3 bg-leaf-wash rounded px-3 py-2 break-all"><b className="block"><Trans>It is shown only now</Trans></b><code className="font-mono select-all">{made}</code> <Copy text={made} what={t`the token`} /></p>}
      <Shown of={tokens}>{(rows) => rows.length === 0 ? <Empty><Trans>None. The command line and other programs log in with one.</Trans></Empty> : (
        <Rows caption={t`Tokens`} rows={rows} by={(token) => token.name} columns={[
          { head: t`For`, grow: true, cell: (token) => token.name },
          { head: t`Made`, cell: (token) => <When at={token.created_at} /> },
          { head: t`Used`, cell: (token) => (token.used_at ? <When at={token.used_at} /> : t`never`) },
          { head: t`Ends`, cell: (token) => (token.expires_at ? <When at={token.expires_at} /> : t`never`) },
          { head: '', cell: (token) => <Ask small danger button={t`Remove…`} title={t`Remove the token ${token.name}`} action={t`Remove it`} about={t`Whatever uses it is refused from now on.`} onSubmit={() => remove.mutateAsync(token.name)} /> },
        ]} />
      )}</Shown>
    </Sheet>
  )
}
