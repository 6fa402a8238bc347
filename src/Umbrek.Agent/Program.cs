using Umbrek.Agent.Hosting;

return await AgentCommands.Build().Parse(args).InvokeAsync();
