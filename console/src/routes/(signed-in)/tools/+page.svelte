<!-- Leads elsewhere: see +page.ts. -->
