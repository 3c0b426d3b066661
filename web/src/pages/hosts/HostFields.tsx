import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import type { Schemas } from '../../api/client'
import { text } from '../../parts/Dialog'
import { Field, TextField, Textarea, Tick } from '../../parts/Field'

export const entered = (f: FormData) => ({
  files: text(f, 'files'), web_root: text(f, 'web_root'), address: text(f, 'address'), database: text(f, 'database'),
  database_password: text(f, 'database_password') || undefined, files_password: text(f, 'files_password') || undefined, files_key: text(f, 'files_key') || undefined,
})

/** What is said of a host; of one that is there, what is in the vault stays unless something else is given. */
export function HostFields({ of }: { of?: Schemas['Host'] }) {
  const stays = of && t`the one in the vault stays unless you give another`
  return (
    <>
      <TextField label={t`Files`} name="files" required defaultValue={of?.files} mono
        hint={t`a folder of this machine like file:///srv/www?owner=www-data, over SSH like sftp://studio@files.example/home/studio/www, or over FTP with TLS like ftps://studio@files.example/www`} />
      <details className="[&>div]:mt-3">
        <summary><Trans>How the account for the files logs in, over SSH or FTP</Trans></summary>
        <TextField label={t`Password, or passphrase of the key`} name="files_password" hint={stays} type="password" autoComplete="off" />
        <Field label={t`Private key`} name="files_key" hint={t`as OpenSSH writes it; for SSH only`}>
          {(id, by, faulty) => <Textarea id={id} name="files_key" aria-describedby={by} fault={faulty} rows={3} autoComplete="off" spellCheck={false} data-secret className="font-mono" />}
        </Field>
        {of?.host_key && <div><p><Trans>It shows the key <span className="font-mono break-all">{of.host_key}</span>.</Trans></p><Tick name="new_host_key"><Trans>Take the key that it shows now, because the hosting company has changed it</Trans></Tick></div>}
      </details>
      <TextField label={t`Web root of a site`} name="web_root" hint={t`a folder below the files; {name} is the site’s`} required defaultValue={of?.web_root ?? '{name}'} mono />
      <TextField label={t`Address of a site`} name="address" hint={t`like https://{name}.preview.example`} required defaultValue={of?.address} mono />
      <TextField label={t`Database server`} name="database" required defaultValue={of?.database} mono
        hint={t`like mysql://admin@127.0.0.1:3306/ or postgres://admin@127.0.0.1:5432/; with ?through=files behind it when it is reached through the SSH of the files, with ?through=page when it is reached by nothing else; several apart by a space`} />
      <TextField label={t`Password of the database account`} name="database_password" hint={stays} type="password" autoComplete="off" />
      <TextField label={t`Connect checks to`} name="connect" hint={t`host or host:port, while DNS does not point there yet`} defaultValue={of?.connect} mono />
    </>
  )
}
