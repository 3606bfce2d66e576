<!-- How a gateway gets in: its connection kit and its credentials. -->
<script lang="ts">
  import { api, call, every, type Gateway, type GatewayCredential } from "#lib/api.ts";
  import { live } from "#lib/live.svelte.ts";
  import { session } from "#lib/session.svelte.ts";
  import { ago, day, PROTOCOLS } from "#lib/format.ts";
  import Notice from "#lib/components/common/Notice.svelte";
  import State from "#lib/components/common/State.svelte";
  import Card from "#lib/components/common/Card.svelte";
  import Field from "#lib/components/common/Field.svelte";
  import { Action, resource } from "#lib/resource.svelte.ts";
  import Confirm from "#lib/components/common/Confirm.svelte";
  import DataTable from "#lib/components/common/DataTable.svelte";

  let { gateway }: { gateway: Gateway } = $props();

  let kind = $state<"token" | "certificate">("token");
  let updates = $state(false);
  const act = new Action();
  let done = $state("");
  const path = $derived({ estate: session.estate, eui: gateway.eui });
  const proves = $derived(gateway.protocol !== "udp");

  const held = resource(() => {
    void gateway.protocol;
    return every((query) => call(api.GET("/api/v1/estates/{estate}/gateways/{eui}/credentials", { params: { path, query } })));
  });
  const credentials = $derived(held.value ?? []);
  const problem = $derived(act.problem || held.problem);

  function standing(credential: GatewayCredential): string {
    const left_days = (Date.parse(credential.expires_at) - live.now) / 86_400_000;
    if (credential.revoked_at) return "revoked";
    return left_days <= 0 ? "expired" : left_days <= 30 ? "expiring" : "good";
  }

  async function makeKit() {
    const asked = api.POST("/api/v1/estates/{estate}/gateways/{eui}/kit", { params: { path }, body: { kind, updates }, parseAs: "blob" });
    const data = await act.run(() => call(asked));
    if (!data) return;
    const link = document.createElement("a");
    link.href = URL.createObjectURL(data as unknown as Blob);
    link.download = `connection-kit-${gateway.eui}.zip`;
    link.click();
    setTimeout(() => URL.revokeObjectURL(link.href), 10_000);
    done = `The kit is in your downloads. Its sheet explains where each file goes${proves ? "; the key in it cannot be shown again" : ""}.`;
    void held.load();
  }

  async function revoke(id: string) {
    await act.run(() => call(api.DELETE("/api/v1/estates/{estate}/gateways/{eui}/credentials/{id}", { params: { path: { ...path, id } } })));
    await held.load();
  }

  async function replace() {
    const asked = await act.run(async () => {
      await call(api.POST("/api/v1/estates/{estate}/gateways/{eui}/credentials/replace", { params: { path } }));
      return true;
    });
    done = asked ? "It gets new credentials when it next asks for updates." : "";
    await held.load();
  }
</script>

<Card data-access>
  <h2 class="mb-1">Connection</h2>
  <p class="mb-3 max-w-prose text-sm text-base-content/80">
    Protocol {PROTOCOLS[gateway.protocol]}. Its connection kit holds all it needs for that, with a sheet in plain words{proves
      ? ", and a new credential each time"
      : "; this protocol has no passwords"}.
    {#if gateway.mqtt_topic}Its topics are below <code class="break-all">{gateway.mqtt_topic}</code>.{/if}
  </p>
  <div class="flex flex-wrap items-end gap-3">
    {#if gateway.protocol === "websocket"}
      <Field label="Credential">
        <select class="select w-40" name="kind" bind:value={kind}>
          <option value="token">a token</option>
          <option value="certificate">a certificate</option>
        </select>
      </Field>
      <label class="flex h-10 items-center gap-2">
        <input class="checkbox checkbox-sm" type="checkbox" name="updates" bind:checked={updates} />
        <span>fetches credentials and firmware by itself</span>
      </label>
    {/if}
    <button class="btn btn-primary" type="button" onclick={makeKit}>Create connection kit</button>
    {#if credentials.some((c) => c.purpose === "updates" && !c.revoked_at)}
      <button class="btn" type="button" onclick={replace}>Replace credentials</button>
    {/if}
  </div>
  {#if done}<p class="mt-2 text-sm text-success" role="status">{done}</p>{/if}
  {#if problem}<div class="mt-2"><Notice text={problem} /></div>{/if}
  {#if credentials.length > 0}
    <div class="mt-3">
      <DataTable>
        {#snippet head()}<th>For</th><th>Kind</th><th>State</th><th>Expires</th><th class="hidden sm:table-cell">Last used</th><th></th>{/snippet}
        {#each credentials as credential (credential.id)}
          <tr data-credential={credential.id}>
            <td>{credential.purpose}</td>
            <td>{credential.kind}</td>
            <td
              ><State state={standing(credential)} />{#if credential.replace_asked && !credential.revoked_at}<span class="block text-xs text-base-content/75"
                  >to be replaced</span
                >{/if}</td
            >
            <td class="whitespace-nowrap tabular-nums">{day(credential.expires_at)}</td>
            <td class="hidden whitespace-nowrap sm:table-cell">{ago(credential.last_used, live.now)}</td>
            <td class="text-right">
              {#if !credential.revoked_at}
                <Confirm label="Revoke" what="A gateway that uses it loses its connection." run={() => revoke(credential.id)} />
              {/if}
            </td>
          </tr>
        {/each}
      </DataTable>
    </div>
  {:else if proves}
    <p class="mt-3 text-sm text-base-content/75">No credential yet, so it cannot connect. Create a connection kit.</p>
  {/if}
</Card>
