<!-- Invites somebody to a role, or shares a fleet or a device. -->
<script lang="ts">
  import { api, call, type Offer, type Role, type ShareLevel } from "#lib/api.ts";
  import Card from "#lib/components/common/Card.svelte";
  import Field from "#lib/components/common/Field.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import ShownOnce from "#lib/components/common/ShownOnce.svelte";
  import { useEstateOptions } from "#lib/estateOptions.svelte.ts";
  import { Action } from "#lib/resource.svelte.ts";
  import { session } from "#lib/session.svelte.ts";

  const estateOptions = useEstateOptions();

  let { done }: { done: () => void } = $props();
  const ROLES: Role[] = ["viewer", "operator", "engineer", "owner"];

  let link = $state("");

  let forWhom = $state("");
  let offers = $state<"role" | "fleet" | "device">("role");
  let role = $state<Role>("viewer");
  let fleet = $state("");
  let device = $state("");
  let level = $state<ShareLevel>("read");
  let end = $state("");

  const path = $derived({ estate: session.estate });
  const act = new Action();

  async function invite(event: SubmitEvent) {
    event.preventDefault();
    const share = (scope: { fleet: string } | { device: string }): Offer => ({ share: { scope, may: level, until: end ? new Date(end).toISOString() : null } });
    const offer: Offer = offers === "role" ? { role } : share(offers === "fleet" ? { fleet } : { device: device.trim() });
    await act.run(async () => {
      const made = await call(api.POST("/api/v1/estates/{estate}/invitations", { params: { path }, body: { for_whom: forWhom, offer } }));
      link = `${location.origin}${made.path}`;
      forWhom = "";
      done();
    });
  }
</script>

<Card title="Invite or share" tag="form" onsubmit={invite} data-invite>
  <p class="mb-3 text-sm text-base-content/80">By a link that works once, within seven days. The recipient signs in or creates an account.</p>
  <div class="grid gap-3 sm:grid-cols-2">
    <Field label="For" class="sm:col-span-2">
      <input class="input w-full" name="for_whom" bind:value={forWhom} placeholder="Marit, harbour office" required />
    </Field>
    <Field label="Offer">
      <select class="select w-full" name="offers" bind:value={offers}>
        <option value="role">a role in the estate</option>
        <option value="fleet">one fleet</option>
        <option value="device">one device</option>
      </select>
    </Field>
    {#if offers === "role"}
      <Field label="Role">
        <select class="select w-full" name="role" bind:value={role}
          >{#each ROLES as one (one)}<option value={one}>{one}</option>{/each}</select
        >
      </Field>
    {:else}
      {#if offers === "fleet"}
        <Field label="Fleet">
          <select class="select w-full" name="fleet" bind:value={fleet} required
            >{#each estateOptions.fleets as one (one.slug)}<option value={one.slug}>{one.name}</option>{/each}</select
          >
        </Field>
      {:else}
        <Field label="DevEUI">
          <input class="input w-full font-mono" name="device" bind:value={device} required />
        </Field>
      {/if}
      <Field label="Access">
        <select class="select w-full" name="may" bind:value={level}
          ><option value="read">read</option><option value="operate">read and send downlinks</option></select
        >
      </Field>
      <Field label="Expires (empty: never)">
        <input class="input w-full" type="date" name="until" bind:value={end} />
      </Field>
    {/if}
  </div>
  {#if act.problem}<div class="mt-3"><Notice text={act.problem} /></div>{/if}
  <button class="btn btn-primary mt-3">Create invitation</button>
  {#if link}
    <div class="mt-3">
      <ShownOnce what="The invitation's link" text={link} hint="Send it to the recipient over a private channel." close={() => (link = "")} />
    </div>
  {/if}
</Card>
